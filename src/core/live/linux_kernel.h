// The kernel that this process runs on: /proc, /sys, and ioctls of devices and filesystems.
#pragma once

#include "core/base/descriptor.h"
#include "core/live/kernel.h"

namespace jh::live {

class LinuxKernel final : public Kernel {
 public:
  std::vector<KernelDisk> disks() override;
  std::vector<MappedDevice> mapped() override;
  std::vector<MapLine> map_of(const MappedDevice& device) override;
  std::vector<Mount> mounts() override;
  std::vector<SwapInUse> swaps() override;
  std::uint64_t memory_available() override;
  MountedSize size_of(const Mount& mount) override;
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  std::string lacks_rights() override;
  std::optional<DeviceNumber> device_at(const std::string& path) override;

  std::unique_ptr<Lock> claim(const KernelDisk& disk) override;
  std::unique_ptr<Store> open_to_read(const std::string& path) override;
  std::unique_ptr<Store> open_to_change(const std::string& path) override;

  void rescan(const KernelDisk& disk) override;
  void lengthen_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                          std::uint64_t size) override;
  void add_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                     std::uint64_t size) override;
  void replace_map(const MappedDevice& device, const std::vector<MapLine>& table) override;
  void check_takes_writes(const Mount& mount) override;
  void grow(const Mount& mount, std::uint64_t size) override;
  void swap_off(const std::string& path) override;
  void swap_on(const std::string& path, int priority) override;
  std::unique_ptr<Lock> lock_group(const std::string& group) override;
};

/// Throws io: what was asked, of whom, and what the system said (errno).
[[noreturn]] void failed(const std::string& what, const std::string& where);
/// Throws io when it cannot be opened.
Descriptor opened(const std::string& path, int flags);
/// "/dev/cciss/c0d0" for "cciss!c0d0", as the kernel's folders call it.
std::string node_named(std::string name);
/// Of the mount that an open file lies on; nothing: the kernel does not say.
std::optional<std::uint64_t> mount_number(int descriptor);

/// Bits of a process's effective capabilities.
enum class Right : unsigned { administer = 21, use_resources = 24 };
bool may(Right right);

/// Where the system's volume tools keep their locks, by the text of their configuration.
std::string folder_of_locks(const std::string& configuration);
/// Lines of /proc/self/mountinfo, and of /proc/swaps; what belongs to no device is left out.
std::vector<Mount> parse_mounts(const std::string& text);
std::vector<SwapInUse> parse_swaps(const std::string& text);

}  // namespace jh::live
