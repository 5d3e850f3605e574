#include "core/report/output_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include "core/base/errors.h"

namespace jh {
namespace {

[[noreturn]] void failed(const std::string& path, const char* what) {
  io_failed(fmt::format("{}: {}", what, std::strerror(errno)), path,
            "make room, or name another place");
}

class Descriptor {
 public:
  explicit Descriptor(int number) : number_(number) {}
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  ~Descriptor() { ::close(number_); }
  int number() const { return number_; }

 private:
  int number_;
};

void write_new(const std::string& path, const std::string& bytes) {
  const int opened = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (opened < 0) failed(path, "the file cannot be made");
  const Descriptor file(opened);
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t count = ::write(file.number(), bytes.data() + done, bytes.size() - done);
    if (count < 0 && errno == EINTR) continue;
    if (count <= 0) failed(path, "the file cannot be written");
    done += static_cast<std::size_t>(count);
  }
  if (::fsync(file.number()) != 0) failed(path, "the file cannot be written");
}

}  // namespace

void make_folder(const std::string& path, const std::string& what, const std::string& next) {
  std::error_code error;
  std::filesystem::create_directories(path, error);
  if (error) io_failed(what + ": " + error.message(), path, next);
}

void write_output(const std::string& path, const std::string& bytes) {
  const std::string fresh = fmt::format("{}.{}.part", path, ::getpid());
  try {
    write_new(fresh, bytes);
  } catch (...) {
    ::unlink(fresh.c_str());
    throw;
  }
  if (std::rename(fresh.c_str(), path.c_str()) != 0) {
    const int error = errno;
    ::unlink(fresh.c_str());
    errno = error;
    failed(path, "the file cannot take its name");
  }
}

}  // namespace jh
