// What the kernel is told: ioctls.
#include "core/live/linux_kernel.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/blkpg.h>
#include <linux/dm-ioctl.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/swap.h>
#include <unistd.h>

#include <boost/align/aligned_allocator.hpp>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "core/base/errors.h"
#include "core/live/volume_settings.h"
#include "core/store/file_store.h"

namespace jh::live {

void failed(const std::string& what, const std::string& where) {
  io_failed(fmt::format("{}: {}", what, std::strerror(errno)), where,
            "look into the system's log; then run this again");
}

Descriptor opened(const std::string& path, int flags) {
  Descriptor file(path, flags);
  if (!file.is_open()) failed("it cannot be opened", path);
  return file;
}

namespace {

// A device, read past what the system keeps of it in memory: another node of the same disk may have
// been written to since. A window of it is kept as long as this is there.
class DirectStore final : public Store {
 public:
  explicit DirectStore(const std::string& path)
      : fd_(opened(path, O_RDONLY | O_DIRECT)), path_(path) {
    if (::ioctl(*fd_, BLKGETSIZE64, &size_) != 0) failed("it does not say its size", path);
  }

  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override {
    if (offset > size_ || out.size() > size_ - offset) failed_behind();
    for (std::size_t done = 0; done < out.size();) {
      const std::uint64_t at = offset + done;
      load(at / window * window);
      const std::size_t inside = at % window;
      const std::size_t part = std::min<std::size_t>(out.size() - done, length_ - inside);
      std::memcpy(out.data() + done, memory_.data() + inside, part);
      done += part;
    }
  }
  void write(std::uint64_t, ConstByteSpan) override { ensure(false, "it was opened to be read"); }
  Range map(std::uint64_t offset, std::uint64_t length) override { return {offset, length, false}; }
  void discard(std::uint64_t, std::uint64_t) override { ensure(false, "it was opened to be read"); }
  void flush() override {}
  void resize(std::uint64_t) override { ensure(false, "a device keeps its size"); }
  bool has_fixed_size() const override { return true; }
  std::string name() const override { return path_; }

 private:
  static constexpr std::uint64_t window = 64U << 10;

  [[noreturn]] void failed_behind() const {
    io_failed("something is read behind its end", path_, "this is a bug; please report it");
  }
  void load(std::uint64_t at) {
    if (at_ == at) return;
    length_ = static_cast<std::size_t>(std::min(window, size_ - at));
    std::size_t done = 0;
    while (done < length_) {
      const ssize_t got =
          ::pread(*fd_, memory_.data() + done, length_ - done, static_cast<off_t>(at + done));
      if (got < 0 && errno == EINTR) continue;
      if (got <= 0) failed("it cannot be read", path_);
      done += static_cast<std::size_t>(got);
    }
    at_ = at;
  }

  Descriptor fd_;
  std::string path_;
  std::uint64_t size_ = 0;
  // What a device is read into past the system's copies must be aligned.
  std::vector<std::uint8_t, boost::alignment::aligned_allocator<std::uint8_t, 4096>> memory_ =
      decltype(memory_)(window);
  std::uint64_t at_ = UINT64_MAX;
  std::size_t length_ = 0;
};

// A device whose bytes are on the disk when a write returns. What this node has of it in memory is
// dropped before and afterwards, so that a part of a page is put into what is on the disk.
class WrittenStore final : public Store {
 public:
  explicit WrittenStore(const std::string& path) : file_(path, Access::read_write) { forget(); }
  ~WrittenStore() override { forget(); }

  std::uint64_t size() const override { return file_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override { file_.read(offset, out); }
  void write(std::uint64_t offset, ConstByteSpan data) override {
    file_.write(offset, data);
    file_.flush();
  }
  Range map(std::uint64_t offset, std::uint64_t length) override {
    return file_.map(offset, length);
  }
  void discard(std::uint64_t offset, std::uint64_t length) override {
    const Buffer zeros(length);
    write(offset, zeros);
  }
  void flush() override { file_.flush(); }
  void resize(std::uint64_t size) override {
    ensure(size == file_.size(), "a device keeps its size");
  }
  bool has_fixed_size() const override { return true; }
  std::string name() const override { return file_.name(); }

 private:
  void forget() const { ::ioctl(file_.descriptor(), BLKFLSBUF, 0); }

  FileStore file_;
};

void tell_of_partition(const KernelDisk& disk, int operation, std::uint32_t number,
                       std::uint64_t start, std::uint64_t size) {
  const Descriptor fd(disk.path, O_RDWR);
  blkpg_partition partition{};
  partition.start = static_cast<long long>(start);
  partition.length = static_cast<long long>(size);
  partition.pno = static_cast<int>(number);
  blkpg_ioctl_arg call{operation, 0, sizeof(partition), &partition};
  if (::ioctl(*fd, BLKPG, &call) != 0)
    failed(fmt::format("the kernel does not take partition {}", number), disk.path);
}

// One call of the mapper: its head, and what follows it.
class MapperCall {
 public:
  MapperCall(const MappedDevice& device, std::size_t room) : bytes_(sizeof(dm_ioctl) + room) {
    dm_ioctl& head = this->head();
    head.version[0] = 4;
    head.data_size = static_cast<std::uint32_t>(bytes_.size());
    head.data_start = sizeof(dm_ioctl);
    device.uuid.copy(head.uuid, sizeof(head.uuid) - 1);
    name_ = device.name;
  }
  dm_ioctl& head() { return *reinterpret_cast<dm_ioctl*>(bytes_.data()); }
  char* data() { return reinterpret_cast<char*>(bytes_.data()) + sizeof(dm_ioctl); }
  std::size_t room() const { return bytes_.size() - sizeof(dm_ioctl); }
  void send(unsigned long request, const char* what) {
    const Descriptor fd("/dev/mapper/control", O_RDWR);
    if (::ioctl(*fd, request, bytes_.data()) != 0) failed(what, name_);
  }

 private:
  Buffer bytes_;
  std::string name_;
};

// A file that is locked as long as this is there. It may be removed while somebody waits for it:
// then another one has its name.
class FileLock final : public Kernel::Lock {
 public:
  explicit FileLock(std::string path) : path_(std::move(path)) {
    for (;;) {
      file_ = Descriptor(path_, O_CREAT | O_APPEND | O_RDWR, 0777);
      struct stat own {};
      struct stat named {};
      int result = file_.is_open() ? ::flock(*file_, LOCK_EX) : -1;
      while (result != 0 && errno == EINTR) result = ::flock(*file_, LOCK_EX);
      if (result != 0) failed("the lock of the volume tools cannot be taken", path_);
      if (::fstat(*file_, &own) == 0 && ::stat(path_.c_str(), &named) == 0 &&
          own.st_ino == named.st_ino && own.st_dev == named.st_dev)
        return;
    }
  }
  // As long as it is held nobody else has it: who waits sees that it is gone, and makes it anew.
  ~FileLock() override { ::unlink(path_.c_str()); }

 private:
  std::string path_;
  Descriptor file_;
};

}  // namespace

namespace {

// Nobody who asks as filesystems do gets the disk as long as this is there.
class DiskClaim final : public Kernel::Lock {
 public:
  explicit DiskClaim(const std::string& path) : disk_(path, O_RDWR | O_EXCL) {
    if (!disk_.is_open() && errno == EBUSY)
      refuse("the disk is in use", path,
             "only a disk that nobody has is taken; see what holds it, and end that");
    if (!disk_.is_open()) failed("it cannot be opened", path);
  }

 private:
  Descriptor disk_;
};

}  // namespace

std::unique_ptr<Kernel::Lock> LinuxKernel::claim(const KernelDisk& disk) {
  return std::make_unique<DiskClaim>(disk.path);
}

std::unique_ptr<Store> LinuxKernel::open_to_change(const std::string& path) {
  return std::make_unique<WrittenStore>(path);
}

std::unique_ptr<Store> LinuxKernel::open_to_read(const std::string& path) {
  return std::make_unique<DirectStore>(path);
}

void LinuxKernel::rescan(const KernelDisk& disk) {
  std::ofstream file("/sys/block/" + disk.name + "/device/rescan");
  file << "1" << std::flush;
}

void LinuxKernel::lengthen_partition(const KernelDisk& disk, std::uint32_t number,
                                     std::uint64_t start, std::uint64_t size) {
  tell_of_partition(disk, BLKPG_RESIZE_PARTITION, number, start, size);
}

void LinuxKernel::add_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                                std::uint64_t size) {
  tell_of_partition(disk, BLKPG_ADD_PARTITION, number, start, size);
}

std::vector<MapLine> LinuxKernel::map_of(const MappedDevice& device) {
  MapperCall call(device, std::size_t{256} << 10);
  call.head().flags = DM_STATUS_TABLE_FLAG;
  call.send(DM_TABLE_STATUS, "the mapper does not say what a volume's map is");
  std::vector<MapLine> table;
  std::size_t at = 0;
  for (std::uint32_t i = 0; i < call.head().target_count; ++i) {
    if (at + sizeof(dm_target_spec) > call.room()) break;
    const auto* spec = reinterpret_cast<const dm_target_spec*>(call.data() + at);
    MapLine line{spec->sector_start, spec->length, spec->target_type,
                 call.data() + at + sizeof(dm_target_spec)};
    while (line.values.ends_with(' ')) line.values.pop_back();
    table.push_back(std::move(line));
    at = spec->next;
  }
  return table;
}

// The new map is loaded beside the present one; resuming an active device makes the kernel suspend
// it, change the maps and resume it in one go, so that it cannot stay suspended.
void LinuxKernel::replace_map(const MappedDevice& device, const std::vector<MapLine>& table) {
  std::size_t room = 0;
  const auto whole = [](const MapLine& line) {
    return (sizeof(dm_target_spec) + line.values.size() + 1 + 7) / 8 * 8;
  };
  for (const MapLine& line : table) room += whole(line);
  MapperCall load(device, room);
  load.head().target_count = static_cast<std::uint32_t>(table.size());
  std::size_t at = 0;
  for (const MapLine& line : table) {
    auto* spec = reinterpret_cast<dm_target_spec*>(load.data() + at);
    spec->sector_start = line.start;
    spec->length = line.length;
    line.kind.copy(spec->target_type, sizeof(spec->target_type) - 1);
    line.values.copy(load.data() + at + sizeof(dm_target_spec), line.values.size());
    spec->next = static_cast<std::uint32_t>(whole(line));
    at += whole(line);
  }
  load.send(DM_TABLE_LOAD, "the mapper does not take the new map");
  try {
    MapperCall resume(device, 1024);
    resume.send(DM_DEV_SUSPEND, "the mapper does not change to the new map");
  } catch (const Error&) {
    // The map that was loaded beside the present one is not left for somebody else to change to.
    try {
      MapperCall clear(device, 1024);
      clear.send(DM_TABLE_CLEAR, "the mapper does not drop the map that was not used");
    } catch (const Error&) {
      // The first error is the one to tell.
    }
    throw;
  }
}

void LinuxKernel::swap_off(const std::string& path) {
  if (::swapoff(path.c_str()) != 0) failed("swap cannot be taken out of use", path);
}

void LinuxKernel::swap_on(const std::string& path, int priority) {
  const int flags =
      priority < 0 ? 0
                   : SWAP_FLAG_PREFER | ((priority << SWAP_FLAG_PRIO_SHIFT) & SWAP_FLAG_PRIO_MASK);
  if (::swapon(path.c_str(), flags) != 0) failed("swap cannot be put into use again", path);
}

// What the system's volume tools call their locks.
std::unique_ptr<Kernel::Lock> LinuxKernel::lock_group(const std::string& group) {
  const std::filesystem::path folder = folder_of_locks(volume_settings(*this));
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  return std::make_unique<FileLock>(
      (folder / (group.empty() ? std::string("P_global") : "V_" + group)).string());
}

}  // namespace jh::live
