// Kernel: the one way to the running system. Everything that is asked of it, told to it or read
// from its devices goes through here, so that the logic can be tested with a kernel in memory that
// fails, lies or stops.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/sizes.h"
#include "core/store/store.h"

namespace jh::live {

/// A block device's number: "253:2" as the system writes it.
struct DeviceNumber {
  unsigned major = 0;
  unsigned minor = 0;
  auto operator<=>(const DeviceNumber&) const = default;
  std::string text() const { return std::to_string(major) + ":" + std::to_string(minor); }
};

struct KernelPartition {
  std::uint32_t number = 0;
  std::string path;  // "/dev/vda2"
  DeviceNumber device;
  std::uint64_t start = 0;           // bytes on the disk
  std::uint64_t size = 0;            // bytes
  std::vector<std::string> holders;  // devices that are built on it
};

struct KernelDisk {
  std::string name;  // "vda"
  std::string path;  // "/dev/vda"
  DeviceNumber device;
  std::uint64_t size = 0;  // bytes
  std::uint32_t sector_size = 512;
  bool read_only = false;
  bool can_rescan = false;
  bool is_file = false;  // a file of this system, looped: meant only when it is named
  std::string identity;  // serial or world-wide name; else its number since this start
  std::string trouble;   // why it can be neither looked at nor changed; empty: it can
  std::vector<std::string> holders;
  std::vector<KernelPartition> partitions;
};

/// One line of a mapped device's table. Start and length in sectors of 512 bytes.
struct MapLine {
  std::uint64_t start = 0;
  std::uint64_t length = 0;
  std::string kind;    // "linear", "striped"
  std::string values;  // as the kernel writes them
  bool operator==(const MapLine&) const = default;
};

struct MappedDevice {
  std::string name;  // "station-var"
  std::string uuid;  // "LVM-..."
  std::string path;  // "/dev/dm-0"
  DeviceNumber device;
  std::uint64_t size = 0;  // bytes
  bool suspended = false;
};

struct Mount {
  DeviceNumber device;
  std::string point;
  std::string kind;    // "ext4"
  std::string source;  // "/dev/mapper/station-var"
  bool read_only = false;
  std::uint64_t number = 0;  // that the kernel gives it
  bool hidden = false;       // what its point leads to is another one, mounted over it
};

struct SwapInUse {
  std::string path;
  std::uint64_t size = 0;  // bytes
  std::uint64_t used = 0;
  int priority = 0;
};

/// A mounted filesystem, as its driver knows it. Bytes.
struct MountedSize {
  std::uint64_t size = 0;
  std::uint64_t used = 0;
  std::uint64_t block = 4096;
  std::string cannot_grow;  // why the driver could not make it larger; empty: it can
};

/// What the running system says. Nothing that is asked here changes anything. All throw io.
class KernelFacts {
 public:
  KernelFacts() = default;
  KernelFacts(const KernelFacts&) = delete;
  KernelFacts& operator=(const KernelFacts&) = delete;
  virtual ~KernelFacts() = default;

  virtual std::vector<KernelDisk> disks() = 0;
  virtual std::vector<MappedDevice> mapped() = 0;
  virtual std::vector<MapLine> map_of(const MappedDevice& device) = 0;
  virtual std::vector<Mount> mounts() = 0;
  virtual std::vector<SwapInUse> swaps() = 0;
  virtual std::uint64_t memory_available() = 0;
  virtual MountedSize size_of(const Mount& mount) = 0;
  /// A file of the running system, cut at `limit`. Nothing: there is none.
  virtual std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) = 0;
  /// Why this process may not do all that is asked of the kernel below; empty: it may.
  virtual std::string lacks_rights() = 0;
  /// The number of the device at a path; nothing: there is none.
  virtual std::optional<DeviceNumber> device_at(const std::string& path) = 0;
  /// The bytes of a device, as they are on it: nothing older that the system keeps of them.
  virtual std::unique_ptr<Store> open_to_read(const std::string& path) = 0;
};

/// What it is told. Each returns when it is done; throws io, with the device and the reason.
class Kernel : public KernelFacts {
 public:
  /// Held until it goes.
  class Lock {
   public:
    Lock() = default;
    Lock(const Lock&) = delete;
    Lock& operator=(const Lock&) = delete;
    virtual ~Lock() = default;
  };
  /// Holds a disk as nobody else does, until the lock goes. Throws refused when somebody has it.
  virtual std::unique_ptr<Lock> claim(const KernelDisk& disk) = 0;
  /// The lock that the system's own volume tools take, for which it waits: of a group, or of all
  /// physical volumes (empty).
  virtual std::unique_ptr<Lock> lock_group(const std::string& group) = 0;

  /// The bytes of a device: what is written is on it when the store says so.
  virtual std::unique_ptr<Store> open_to_change(const std::string& path) = 0;
  /// Asks the disk how large it is now; its content is not touched. Where that may not be asked,
  /// the kernel goes on with the size it knows.
  virtual void rescan(const KernelDisk& disk) = 0;
  virtual void lengthen_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                                  std::uint64_t size) = 0;
  virtual void add_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                             std::uint64_t size) = 0;
  /// Lets the table take the place of the present one. Input and output wait for a moment; nothing
  /// of it stays stopped when this process dies.
  virtual void replace_map(const MappedDevice& device, const std::vector<MapLine>& table) = 0;
  /// Throws refused when whoever writes to it has to wait, since somebody has frozen it.
  virtual void check_takes_writes(const Mount& mount) = 0;
  virtual void grow(const Mount& mount, std::uint64_t size) = 0;
  virtual void swap_off(const std::string& path) = 0;
  virtual void swap_on(const std::string& path, int priority) = 0;
};

}  // namespace jh::live
