// A kernel in memory: disks, partitions, mapped volumes, mounts and swap; it fails, stops or lies
// at any call.
#pragma once

#include <functional>
#include <map>
#include <set>

#include "core/live/kernel.h"
#include "core/store/memory_store.h"

namespace jh::test {

/// This process is gone: no Error, so that nothing catches it.
struct Died {};

class MemoryKernel final : public live::Kernel {
 public:
  MemoryKernel() = default;
  /// Another one with the same state; its disks are its own from now on.
  MemoryKernel(const MemoryKernel& other) : Kernel() { *this = other; }
  MemoryKernel& operator=(const MemoryKernel& other);
  ~MemoryKernel() override = default;

  /// Adds a disk, and boots: partitions and volumes are as they stand on it.
  void add_disk(const std::string& name, const MemoryStore& bytes, std::uint32_t sector_size = 512);
  /// Reads tables and groups of all disks anew, as after a start. Mounts keep their devices' names.
  void boot();
  void resize_disk(const std::string& name, std::uint64_t size);
  /// By the node's path, with the size that the filesystem on it says it has.
  void mount(const std::string& node, const std::string& point, const std::string& kind);
  void use_swap(const std::string& node, std::uint64_t used = 0, int priority = -2);

  /// From now on: the call (or write) with this number fails; the process ends before it, or after
  /// it; it is said to be done, and is not. 0: none.
  struct Trouble {
    std::uint64_t fails = 0;
    std::uint64_t dies_before = 0;
    std::uint64_t dies_after = 0;
    std::uint64_t lies = 0;
  } trouble;
  std::uint64_t calls = 0;  // that change something
  std::vector<std::string> told;
  std::vector<std::string> locks;  // in the order they were taken
  std::set<std::string> held;
  std::function<void(const std::string&)> at_lock;  // somebody else, before a lock is taken

  // What the tests put out of order.
  std::string rights_lacking;
  std::uint64_t memory = 1ULL << 30;
  std::map<std::string, std::uint64_t> enlarged_unseen;  // sizes that disks have before a rescan
  std::set<std::string> missing;                         // devices that are not here
  std::vector<live::KernelDisk> disks_;
  std::vector<live::MappedDevice> mapped_;
  std::map<std::string, std::vector<live::MapLine>> maps_;  // by name
  std::vector<live::Mount> mounts_;
  std::map<std::string, live::MountedSize> sizes_;  // by mount point
  std::vector<live::SwapInUse> swaps_;
  std::map<std::string, MemoryStore> bytes_;  // by the disk's name
  std::set<std::string> held_by_others;       // disks, by their paths
  std::set<std::string> frozen;               // mount points
  std::set<std::string> unreadable;           // devices that answer with an error
  std::map<std::string, std::string> files_;

  std::vector<live::KernelDisk> disks() override { return disks_; }
  std::vector<live::MappedDevice> mapped() override { return mapped_; }
  std::vector<live::MapLine> map_of(const live::MappedDevice& device) override {
    return maps_[device.name];
  }
  std::vector<live::Mount> mounts() override { return mounts_; }
  std::vector<live::SwapInUse> swaps() override { return swaps_; }
  std::uint64_t memory_available() override { return memory; }
  live::MountedSize size_of(const live::Mount& mount) override { return sizes_.at(mount.point); }
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  std::string lacks_rights() override { return rights_lacking; }
  std::optional<live::DeviceNumber> device_at(const std::string& path) override;
  std::unique_ptr<Lock> claim(const live::KernelDisk& disk) override;
  std::unique_ptr<Store> open_to_read(const std::string& path) override {
    return open(path, false);
  }
  std::unique_ptr<Store> open_to_change(const std::string& path) override {
    return open(path, true);
  }
  std::unique_ptr<Store> open(const std::string& path, bool to_change);
  void rescan(const live::KernelDisk& disk) override;
  void lengthen_partition(const live::KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                          std::uint64_t size) override;
  void add_partition(const live::KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                     std::uint64_t size) override;
  void replace_map(const live::MappedDevice& device,
                   const std::vector<live::MapLine>& table) override;
  void check_takes_writes(const live::Mount& mount) override {
    if (frozen.contains(mount.point)) refuse("the filesystem is frozen", mount.point, "thaw it");
  }
  void grow(const live::Mount& mount, std::uint64_t size) override;
  void swap_off(const std::string& path) override;
  void swap_on(const std::string& path, int priority) override;
  std::unique_ptr<Lock> lock_group(const std::string& group) override;

  /// Size of the device of a mount, now.
  std::uint64_t device_size(const live::DeviceNumber& device) const;

 private:
  class View;
  friend class View;

  /// Runs what a call does, unless it is its turn to go wrong.
  void change(const std::string& what, const std::function<void()>& work);
  std::string node_of(const live::DeviceNumber& device) const;
  live::KernelDisk& disk_named(const std::string& name);
};

}  // namespace jh::test
