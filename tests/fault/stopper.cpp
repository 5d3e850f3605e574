// Preloaded into the built program: the n-th call that changes a file or flushes one ends the
// process on the spot, before the call (JUNEHEATH_STOP_AT=n; 0 only counts, into
// JUNEHEATH_STOP_COUNT at exit).
#include <dlfcn.h>
#include <sys/types.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>

namespace {

long calls = 0;

long stop_at() {
  static const long n = [] {
    const char* text = std::getenv("JUNEHEATH_STOP_AT");
    return text == nullptr ? 0L : std::atol(text);
  }();
  return n;
}

void count() {
  if (++calls == stop_at()) _exit(99);
}

template <class Function>
Function real(const char* name) {
  return reinterpret_cast<Function>(dlsym(RTLD_NEXT, name));
}

struct Writer {
  ~Writer() {
    const char* path = std::getenv("JUNEHEATH_STOP_COUNT");
    if (path == nullptr) return;
    if (FILE* file = std::fopen(path, "w")) {
      std::fprintf(file, "%ld\n", calls);
      std::fclose(file);
    }
  }
} writer;

}  // namespace

extern "C" {

ssize_t pwrite64(int fd, const void* data, size_t length, off64_t offset) {
  count();
  return real<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64")(fd, data, length, offset);
}
ssize_t pwrite(int fd, const void* data, size_t length, off_t offset) {
  return pwrite64(fd, data, length, offset);
}
int fsync(int fd) {
  count();
  return real<int (*)(int)>("fsync")(fd);
}
int ftruncate64(int fd, off64_t length) {
  count();
  return real<int (*)(int, off64_t)>("ftruncate64")(fd, length);
}
int ftruncate(int fd, off_t length) { return ftruncate64(fd, length); }
int fallocate64(int fd, int mode, off64_t offset, off64_t length) {
  count();
  return real<int (*)(int, int, off64_t, off64_t)>("fallocate64")(fd, mode, offset, length);
}
int fallocate(int fd, int mode, off_t offset, off_t length) {
  return fallocate64(fd, mode, offset, length);
}
int rename(const char* from, const char* to) {
  count();
  return real<int (*)(const char*, const char*)>("rename")(from, to);
}
int unlink(const char* path) {
  count();
  return real<int (*)(const char*)>("unlink")(path);
}
}
