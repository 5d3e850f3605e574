// steady_writer FILE STOP: writes 4 KiB to FILE and flushes it, again and again with 10 ms between,
// until a file STOP is there. A line for each on standard output: when it began and how long it
// took, in microseconds of the monotonic clock (which /proc/uptime shows in hundredths of seconds).
// steady_writer freeze|thaw FOLDER: the filesystem there lets whoever writes to it wait, or goes
// on.
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <chrono>
#include <cstdint>
#include <cstdio>
#include <string_view>
#include <thread>
#include <vector>

namespace {

std::int64_t now() {
  return std::chrono::duration_cast<std::chrono::microseconds>(
             std::chrono::steady_clock::now().time_since_epoch())
      .count();
}

int freeze_or_thaw(bool freeze, const char* folder) {
  const int place = ::open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  return place >= 0 && ::ioctl(place, freeze ? FIFREEZE : FITHAW, 0) == 0 ? 0 : 1;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 3) return 2;
  const std::string_view word = argv[1];
  if (word == "freeze" || word == "thaw") return freeze_or_thaw(word == "freeze", argv[2]);
  const int file = ::open(argv[1], O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  if (file < 0) return 1;
  std::vector<char> block(4096);
  for (std::int64_t i = 0; ::access(argv[2], F_OK) != 0; ++i) {
    block.assign(block.size(), static_cast<char>(i));
    const std::int64_t began = now();
    if (::pwrite(file, block.data(), block.size(), i % 256 * 4096) != 4096) return 1;
    if (::fdatasync(file) != 0) return 1;
    std::printf("%lld %lld\n", static_cast<long long>(began),
                static_cast<long long>(now() - began));
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  return ::close(file);
}
