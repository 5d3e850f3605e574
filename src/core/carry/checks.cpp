#include "core/carry/checks.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/loop.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <chrono>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <optional>
#include <sstream>
#include <thread>

#include "core/base/host_lists.h"
#include "core/base/uuid.h"

namespace jh {
namespace {

namespace files = std::filesystem;

[[noreturn]] void in_use(const std::string& path, const std::string& what, const Advice& next) {
  refuse(what, path, next);
}

[[noreturn]] void held_by_host(const std::string& path) {
  in_use(path, "the device is held by the host (mounted, or part of something larger)",
         "release it, then run again");
}

// "/mnt/x" for a device that is mounted, or one of its partitions; empty otherwise.
std::string mount_point_of(const std::string& device) {
  for (const MountLine& mount : parse_mount_lines(text_of_file("/proc/self/mountinfo"))) {
    const std::string& source = mount.source;
    if (source == device ||
        (source.starts_with(device) && source.size() > device.size() &&
         (source[device.size()] == 'p' ||
          std::isdigit(static_cast<unsigned char>(source[device.size()])) != 0)))
      return mount.point;
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
    if (const Descriptor loop(device, O_RDONLY); loop.is_open()) {
      struct loop_info64 info {};
      same = ::ioctl(*loop, LOOP_GET_STATUS64, &info) == 0 && info.lo_device == image.st_dev &&
             info.lo_inode == image.st_ino;
    } else {
      struct stat backing {};
      const std::string file = first_line_of((entry.path() / "loop" / "backing_file").string());
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
    if (key == "flags:") {
      unsigned flags = 0;
      std::from_chars(value.data(), value.data() + value.size(), flags, 8);
      return (flags & O_ACCMODE) != O_RDONLY;
    }
  return true;  // the kernel does not say; better safe
}

struct Holder {
  std::string pid;
  std::string name;
  bool writes = false;
};

// Who has the file open, by what the kernel tells about each process we may look at.
std::optional<Holder> holder_of(const struct stat& image, bool writers_only) {
  std::error_code error;
  const std::string me = std::to_string(::getpid());
  for (const auto& process : files::directory_iterator("/proc", error)) {
    const std::string pid = process.path().filename().string();
    if (pid.find_first_not_of("0123456789") != std::string::npos || pid == me) continue;
    std::error_code denied;
    for (const auto& fd : files::directory_iterator(process.path() / "fd", denied)) {
      const auto is_image = [&] {
        struct stat open_file {};
        if (::stat(fd.path().c_str(), &open_file) != 0) return false;
        return S_ISBLK(image.st_mode)
                   ? S_ISBLK(open_file.st_mode) && open_file.st_rdev == image.st_rdev
                   : open_file.st_dev == image.st_dev && open_file.st_ino == image.st_ino;
      };
      if (!is_image()) continue;
      const bool writes = is_for_writing(fd.path());
      // Closed meanwhile, and perhaps opened again for another file, it says nothing of this one.
      if ((writers_only && !writes) || !is_image()) continue;
      return Holder{pid, first_line_of(process.path() / "comm"), writes};
    }
  }
  return std::nullopt;
}

// Who only reads may be gone in a moment: another juneheath that looks for children of its image,
// an indexer.
void check_open_descriptors(const std::string& path, const struct stat& image, bool writers_only) {
  constexpr int most_looks = 20;
  for (int look = 1;; ++look) {
    const auto holder = holder_of(image, writers_only);
    if (!holder) return;
    if (holder->writes || look == most_looks)
      in_use(path, fmt::format("the image is open in process {} ({})", holder->pid, holder->name),
             "shut the guest down, or stop that program, then run again");
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  }
}

void check_block_device(const std::string& path, bool is_ours) {
  const std::string real = files::canonical(path).string();
  if (const std::string point = mount_point_of(real); !point.empty())
    in_use(path, fmt::format("the device is mounted at {}", point), "unmount it, then run again");
  if (is_ours) return;
  const Descriptor claimed(path, O_RDWR | O_EXCL);
  if (!claimed.is_open() && errno == EBUSY) held_by_host(path);
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

// What a hypervisor keeps of a machine that it has put to sleep, by the endings that these files
// have: its memory, and in it the truth of what the disk is to hold.
struct StateEnding {
  const char* ending;
  std::uint64_t at_least;  // bytes; a shorter one is kept for machines that run or are off
};
constexpr std::array<StateEnding, 6> state_endings{
    {{".vmss", 1}, {".sav", 1}, {".vsv", 1}, {".save", 1}, {".suspend", 1}, {".vmrs", 16U << 20}}};

// "heath" of "heath.vmdk", "heath-flat.vmdk", "heath-000002.vmdk" and "heath-s001.vmdk".
std::string machine_of(const files::path& image) {
  std::string stem = image.stem().string();
  static const std::array<const char*, 3> pieces{"-flat", "-delta", "-ctk"};
  for (const char* piece : pieces)
    if (stem.ends_with(piece)) stem.resize(stem.size() - std::strlen(piece));
  const std::size_t dash = stem.rfind('-');
  if (dash != std::string::npos && dash != 0 && dash + 1 < stem.size()) {
    const std::string tail = stem.substr(dash + 1);
    const std::size_t digits = tail[0] == 's' || tail[0] == 'f' ? 1 : 0;
    if (tail.size() - digits >= 3 &&
        tail.find_first_not_of("0123456789", digits) == std::string::npos)
      stem.resize(dash);
  }
  return stem;
}

// Names made by machines, which tell nothing of whose they are: "{0a1b...}",
// "2026-11-29T10-00-00Z", "6F9619FF-8B86-D011-B42D-00C04FC964FF".
bool is_number_like(const std::string& stem) {
  return stem.size() >= 16 &&
         stem.find_first_not_of("0123456789abcdefABCDEF{}-_.TZtz") == std::string::npos;
}

void check_no_saved_machine(const std::string& path) {
  std::error_code error;
  const files::path real = files::canonical(path, error);
  if (error) return;
  const std::string machine = machine_of(real);
  const files::path own = real.parent_path();
  for (const files::path& folder :
       {own, own / "Snapshots", own / "snapshots", own.parent_path() / "Snapshots"}) {
    for (auto entry = files::directory_iterator(folder, error);
         !error && entry != files::directory_iterator(); entry.increment(error)) {
      std::error_code ignored;
      const files::path file = entry->path();
      const std::string ending = fold_case(file.extension().string());
      const auto* known =
          std::find_if(state_endings.begin(), state_endings.end(),
                       [&](const StateEnding& each) { return ending == each.ending; });
      if (known == state_endings.end() || !entry->is_regular_file(ignored) ||
          entry->file_size(ignored) < known->at_least)
        continue;
      const std::string stem = file.stem().string();
      const bool its_own = stem == machine || stem.starts_with(machine + "-") ||
                           stem.starts_with(machine + ".") || is_number_like(stem);
      if (!its_own) continue;
      throw Error(Status::refused,
                  "a machine's saved state lies beside the image: " + file.string() +
                      "; the guest is suspended, and its saved memory holds the current state of "
                      "its filesystems",
                  path,
                  "wake the machine in its hypervisor and shut it down properly, then run again; a "
                  "state that belongs to another machine: move it away")
          .with_reason(Reason::suspended);
    }
    error.clear();
  }
}

}  // namespace

void check_not_written_elsewhere(const std::string& path) {
  struct stat image {};
  if (::stat(path.c_str(), &image) != 0) return;  // opening it names the trouble
  check_lock_files(path);
  check_open_descriptors(path, image, /*writers_only=*/true);
}

void check_not_in_use(const std::string& path, bool is_ours) {
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
    check_block_device(path, is_ours);
  } else {
    check_loop_devices(path, image);
  }
  check_lock_files(path);
  check_no_saved_machine(path);
  check_open_descriptors(path, image, /*writers_only=*/false);
}

ImageLock::ImageLock(const std::string& path, LockKind kind) {
  const bool changing = kind == LockKind::changing;
  struct stat image {};
  const bool device = ::stat(path.c_str(), &image) == 0 && S_ISBLK(image.st_mode);
  // A device is claimed as whole filesystems claim it, for as long as we are at work.
  const int claim = device && changing ? O_EXCL : 0;
  file_ = Descriptor(path, (changing ? O_RDWR : O_RDONLY) | claim);
  if (!file_.is_open() && errno == EBUSY) held_by_host(path);
  if (!file_.is_open()) return;  // opening it for the work names the trouble
  struct flock whole {};
  whole.l_type = static_cast<short>(changing ? F_WRLCK : F_RDLCK);
  whole.l_whence = SEEK_SET;
  const auto locked = [](int result) {
    // Some filesystems cannot lock; whoever works on those knows of no locks either.
    return result == 0 || errno == ENOLCK || errno == EOPNOTSUPP || errno == EINVAL;
  };
  const bool held = locked(::fcntl(*file_, F_OFD_SETLK, &whole)) &&
                    locked(::flock(*file_, (changing ? LOCK_EX : LOCK_SH) | LOCK_NB));
  if (held) return;
  struct flock other {};
  other.l_type = F_WRLCK;
  other.l_whence = SEEK_SET;
  std::string who;
  if (::fcntl(*file_, F_OFD_GETLK, &other) == 0 && other.l_type != F_UNLCK && other.l_pid > 0)
    who = fmt::format(" by process {} ({})", other.l_pid,
                      first_line_of(fmt::format("/proc/{}/comm", other.l_pid)));
  refuse("the image is locked" + who, path, "shut the guest down, or wait, then run again");
}

SourceWatch::SourceWatch(std::vector<std::string> files) : files_(std::move(files)) {
  for (const std::string& file : files_) before_.push_back(state_of(file));
}

SourceWatch::State SourceWatch::state_of(const std::string& file) {
  struct stat info {};
  if (::stat(file.c_str(), &info) != 0) return {};
  return {static_cast<std::uint64_t>(info.st_size), info.st_ino, info.st_mtim.tv_sec,
          info.st_mtim.tv_nsec};
}

void SourceWatch::check() const {
  for (std::size_t i = 0; i < files_.size(); ++i)
    if (!(state_of(files_[i]) == before_[i]))
      throw Error(Status::io, "the image was written to while it was being copied", files_[i],
                  "the copy was removed; shut the guest down, then run again")
          .with_outcome(Outcome::unchanged);
}

void SourceWatch::check_still() const {
  for (std::size_t i = 0; i < files_.size(); ++i) {
    check_not_written_elsewhere(files_[i]);
    if (!(state_of(files_[i]) == before_[i]))
      refuse(
          "the image was written to while it was being read, and what is read then does not fit "
          "together",
          files_[i], "wait until that is done, or shut the guest down, then run again");
  }
}

}  // namespace jh
