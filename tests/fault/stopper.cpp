// Preloaded into the built program: the n-th call that changes a file or flushes one ends the
// process on the spot, before the call (JUNEHEATH_STOP_AT=n; 0 only counts, into
// JUNEHEATH_STOP_COUNT at exit). With JUNEHEATH_FAIL_WITH=error the call fails instead, and so do
// all after it, or only as many as JUNEHEATH_FAIL_FOR says. With JUNEHEATH_FORGET=folder what was
// not flushed by then is lost, and so it is when the program ends by itself.
#include <dlfcn.h>
#include <fcntl.h>
#include <sys/types.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <climits>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>

#include "unflushed.h"

namespace {

std::atomic<long> calls = 0;

long setting(const char* name, long otherwise) {
  const char* text = std::getenv(name);
  return text == nullptr ? otherwise : std::atol(text);
}

// Whether this call fails; errno is set then.
bool fails() {
  static const long stop_at = setting("JUNEHEATH_STOP_AT", 0);
  static const long error = setting("JUNEHEATH_FAIL_WITH", 0);
  static const long how_many = setting("JUNEHEATH_FAIL_FOR", LONG_MAX);
  const long call = ++calls;
  if (stop_at == 0 || call < stop_at) return false;
  if (error == 0) {
    if (call == stop_at) {
      jh::test::lose_unflushed();
      _exit(99);
    }
    return false;
  }
  if (call - stop_at >= how_many) return false;
  errno = static_cast<int>(error);
  return true;
}

template <class Function>
Function real(const char* name) {
  return reinterpret_cast<Function>(dlsym(RTLD_NEXT, name));
}

struct Writer {
  Writer() { jh::test::begin_to_remember(); }
  ~Writer() {
    jh::test::lose_unflushed();
    const char* path = std::getenv("JUNEHEATH_STOP_COUNT");
    if (path == nullptr) return;
    if (FILE* file = std::fopen(path, "w")) {
      std::fprintf(file, "%ld\n", calls.load());
      std::fclose(file);
    }
  }
} writer;

}  // namespace

extern "C" {

ssize_t pwrite64(int fd, const void* data, size_t length, off64_t offset) {
  if (fails()) return -1;
  jh::test::file_changes(fd);
  return real<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64")(fd, data, length, offset);
}
ssize_t pwrite(int fd, const void* data, size_t length, off_t offset) {
  return pwrite64(fd, data, length, offset);
}
int fsync(int fd) {
  if (fails()) return -1;
  const int result = real<int (*)(int)>("fsync")(fd);
  if (result == 0) jh::test::was_flushed(fd);
  return result;
}
int ftruncate64(int fd, off64_t length) {
  if (fails()) return -1;
  jh::test::file_changes(fd);
  return real<int (*)(int, off64_t)>("ftruncate64")(fd, length);
}
int ftruncate(int fd, off_t length) { return ftruncate64(fd, length); }
int fallocate64(int fd, int mode, off64_t offset, off64_t length) {
  if (fails()) return -1;
  jh::test::file_changes(fd);
  return real<int (*)(int, int, off64_t, off64_t)>("fallocate64")(fd, mode, offset, length);
}
int fallocate(int fd, int mode, off_t offset, off_t length) {
  return fallocate64(fd, mode, offset, length);
}
int rename(const char* from, const char* to) {
  if (fails()) return -1;
  jh::test::name_replaced(from, to);
  return real<int (*)(const char*, const char*)>("rename")(from, to);
}
int renameat2(int from_folder, const char* from, int to_folder, const char* to, unsigned flags) {
  if (fails()) return -1;
  jh::test::name_replaced(from, to);
  return real<int (*)(int, const char*, int, const char*, unsigned)>("renameat2")(
      from_folder, from, to_folder, to, flags);
}
int mkdir(const char* path, mode_t mode) {
  if (fails()) return -1;
  const int result = real<int (*)(const char*, mode_t)>("mkdir")(path, mode);
  if (result == 0) jh::test::name_made(path);
  return result;
}
int unlink(const char* path) {
  if (fails()) return -1;
  jh::test::name_removed(path);
  return real<int (*)(const char*)>("unlink")(path);
}
int open64(const char* path, int flags, ...) {
  mode_t mode = 0;
  if ((flags & O_CREAT) != 0) {
    va_list rest;
    va_start(rest, flags);
    mode = va_arg(rest, mode_t);
    va_end(rest);
  }
  const bool made = (flags & O_CREAT) != 0 && access(path, F_OK) != 0;
  const int fd = real<int (*)(const char*, int, ...)>("open64")(path, flags, mode);
  if (fd >= 0 && made) jh::test::name_made(path);
  return fd;
}
}
