#include "core/carry/checks.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/loop.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "core/container/recognise.h"

namespace jh {
namespace {

namespace files = std::filesystem;

[[noreturn]] void in_use(const std::string& path, const std::string& what,
                         const std::string& next) {
  refuse(what, path, next);
}

std::string first_line(const files::path& path) {
  std::ifstream file(path);
  std::string line;
  std::getline(file, line);
  return line;
}

// "/mnt/x" for a device that is mounted; empty otherwise.
std::string mount_point_of(const std::string& device) {
  std::ifstream mounts("/proc/self/mountinfo");
  for (std::string line; std::getline(mounts, line);) {
    const std::size_t dash = line.find(" - ");
    if (dash == std::string::npos) continue;
    std::istringstream head(line.substr(0, dash));
    std::istringstream tail(line.substr(dash + 3));
    std::string skipped;
    std::string point;
    std::string type;
    std::string source;
    head >> skipped >> skipped >> skipped >> skipped >> point;
    tail >> type >> source;
    // The device itself, or one of its partitions.
    if (source == device ||
        (source.starts_with(device) && source.size() > device.size() &&
         (source[device.size()] == 'p' ||
          std::isdigit(static_cast<unsigned char>(source[device.size()])) != 0)))
      return point;
  }
  return {};
}

void check_loop_devices(const std::string& path, const struct stat& image) {
  std::error_code error;
  for (const auto& entry : files::directory_iterator("/sys/block", error)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with("loop") || !files::exists(entry.path() / "loop" / "backing_file", error))
      continue;
    const std::string device = "/dev/" + name;
    bool same = false;
    const int fd = ::open(device.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd >= 0) {
      struct loop_info64 info {};
      same = ::ioctl(fd, LOOP_GET_STATUS64, &info) == 0 && info.lo_device == image.st_dev &&
             info.lo_inode == image.st_ino;
      ::close(fd);
    } else {
      struct stat backing {};
      const std::string file = first_line(entry.path() / "loop" / "backing_file");
      same = ::stat(file.c_str(), &backing) == 0 && backing.st_dev == image.st_dev &&
             backing.st_ino == image.st_ino;
    }
    if (!same) continue;
    const std::string point = mount_point_of(device);
    in_use(path,
           point.empty() ? fmt::format("the image is attached to {}", device)
                         : fmt::format("the image is mounted at {} (through {})", point, device),
           point.empty() ? "detach it, then run again" : "unmount it, then run again");
  }
}

// Whether a descriptor of a process was opened for writing.
bool is_for_writing(const files::path& descriptor) {
  std::ifstream info(descriptor.parent_path().parent_path() / "fdinfo" / descriptor.filename());
  for (std::string key, value; info >> key >> value;)
    if (key == "flags:") return (std::stoul(value, nullptr, 8) & O_ACCMODE) != O_RDONLY;
  return true;  // the kernel does not say; better safe
}

// Who has the file open, by what the kernel tells about each process we may look at.
void check_open_descriptors(const std::string& path, const struct stat& image, bool writers_only) {
  std::error_code error;
  const std::string me = std::to_string(::getpid());
  for (const auto& process : files::directory_iterator("/proc", error)) {
    const std::string pid = process.path().filename().string();
    if (pid.find_first_not_of("0123456789") != std::string::npos || pid == me) continue;
    std::error_code denied;
    for (const auto& fd : files::directory_iterator(process.path() / "fd", denied)) {
      struct stat open_file {};
      if (::stat(fd.path().c_str(), &open_file) != 0) continue;
      const bool same = S_ISBLK(image.st_mode)
                            ? S_ISBLK(open_file.st_mode) && open_file.st_rdev == image.st_rdev
                            : open_file.st_dev == image.st_dev && open_file.st_ino == image.st_ino;
      if (!same || (writers_only && !is_for_writing(fd.path()))) continue;
      in_use(path,
             fmt::format("the image is open in process {} ({})", pid,
                         first_line(process.path() / "comm")),
             "shut the guest down, or stop that program, then run again");
    }
  }
}

void check_block_device(const std::string& path) {
  const std::string real = files::canonical(path).string();
  if (const std::string point = mount_point_of(real); !point.empty())
    in_use(path, fmt::format("the device is mounted at {}", point), "unmount it, then run again");
  const int fd = ::open(path.c_str(), O_RDWR | O_EXCL | O_CLOEXEC);
  if (fd < 0 && errno == EBUSY)
    in_use(path, "the device is held by the host (mounted, or part of something larger)",
           "release it, then run again");
  if (fd >= 0) ::close(fd);
}

// Some hypervisors leave a file or a folder beside an image while a guest runs on it.
void check_lock_files(const std::string& path) {
  for (const char* ending : {".lck", ".lock"}) {
    std::error_code error;
    const files::path lock = path + ending;
    const bool there = files::is_directory(lock, error) ? !files::is_empty(lock, error)
                                                        : files::exists(lock, error);
    if (there)
      in_use(path, "a lock of a hypervisor lies beside the image: " + lock.string(),
             "shut the guest down; if none runs, remove the lock, then run again");
  }
}

// Whoever builds on an image would see its own disk change.
void check_no_children(const std::string& path) {
  FileHost host;
  HostNeighbours beside(host);
  std::error_code error;
  for (const std::string& sibling : beside.siblings(path)) {
    try {
      FileStore file(sibling, Access::read_only);
      if (recognise_form(file) == Form::raw) continue;
      for (const std::string& name : parent_names(file, beside))
        if (files::equivalent(path_beside(sibling, name), path, error))
          in_use(path, sibling + " builds on this image, and would be damaged by a change of it",
                 "name " + sibling + " instead, or let the hypervisor join the two");
    } catch (const Error& found) {
      // What cannot be read says nothing about its parent.
      if (found.status() == Status::refused && found.where() == path) throw;
    }
  }
}

}  // namespace

void check_not_written_elsewhere(const std::string& path) {
  struct stat image {};
  if (::stat(path.c_str(), &image) != 0) return;  // opening it names the trouble
  check_lock_files(path);
  check_open_descriptors(path, image, /*writers_only=*/true);
}

void check_not_in_use(const std::string& path) {
  struct stat image {};
  if (::stat(path.c_str(), &image) != 0) return;  // opening it names the trouble
  if ((image.st_mode & (S_IWUSR | S_IWGRP | S_IWOTH)) == 0)
    refuse("the image is marked read-only", path,
           "if it may be changed: chmod u+w, then run again");
  if (::access(path.c_str(), W_OK) != 0)
    refuse(errno == EROFS ? "the image lies on a read-only filesystem"
                          : "the image is not writable for you",
           path, "make it writable, or run as its owner");
  if (S_ISBLK(image.st_mode)) {
    check_block_device(path);
  } else {
    check_loop_devices(path, image);
  }
  check_lock_files(path);
  check_open_descriptors(path, image, /*writers_only=*/false);
  check_no_children(path);
}

ImageLock::ImageLock(const std::string& path) {
  fd_ = ::open(path.c_str(), O_RDWR | O_CLOEXEC);
  if (fd_ < 0) return;  // opening it for the change names the trouble
  struct flock whole {};
  whole.l_type = F_WRLCK;
  whole.l_whence = SEEK_SET;
  const bool held = ::fcntl(fd_, F_OFD_SETLK, &whole) == 0 && ::flock(fd_, LOCK_EX | LOCK_NB) == 0;
  if (held) return;
  struct flock other {};
  other.l_type = F_WRLCK;
  other.l_whence = SEEK_SET;
  std::string who;
  if (::fcntl(fd_, F_OFD_GETLK, &other) == 0 && other.l_type != F_UNLCK && other.l_pid > 0)
    who = fmt::format(" by process {} ({})", other.l_pid,
                      first_line(fmt::format("/proc/{}/comm", other.l_pid)));
  ::close(fd_);
  refuse("the image is locked" + who, path, "shut the guest down, or wait, then run again");
}

ImageLock::~ImageLock() {
  if (fd_ >= 0) ::close(fd_);
}

}  // namespace jh
