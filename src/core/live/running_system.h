// RunningSystem: the guest that this process runs in, as kernel and disks together tell it.
#pragma once

#include <map>

#include "core/guest/guest.h"
#include "core/live/kernel.h"
#include "core/live/new_disk.h"
#include "core/plan/plan.h"
#include "core/store/memory_store.h"

namespace jh::live {

class RunningSystem : public Running {
 public:
  /// A disk that a change is to take: it must be empty, or as a run left it that was cut off.
  struct Added {
    std::string path;
    std::optional<NewDisk> begun;
  };
  /// `named`: only these disks; empty: all of them. Throws refused when there are none that can be
  /// reached.
  RunningSystem(KernelFacts& kernel, const std::vector<std::string>& named,
                const std::vector<Added>& added = {});
  ~RunningSystem() override;

  const Guest& guest() const { return *guest_; }
  KernelFacts& kernel() const { return kernel_; }
  const std::vector<Mount>& mounts() const { return mounts_; }
  const std::vector<SwapInUse>& swaps() const { return swaps_; }
  /// Disks that are left out, each with the reason.
  const std::vector<Error>& left_out() const { return left_out_; }

  /// By the number of the guest's disk.
  const KernelDisk& disk(std::size_t index) const { return disks_[index]; }
  /// Null: the kernel does not know it.
  const KernelPartition* partition(std::size_t disk, std::uint32_t number) const;
  /// Null: the volume is not active.
  const MappedDevice* mapped(const VolumeGroup& group, const lvm::Volume& volume) const;
  /// The node of a place; empty: it has none.
  std::string path_of(const Layer& layer) const;
  std::optional<DeviceNumber> device_of(const Layer& layer) const;
  /// Where the place is mounted; null: nowhere.
  const Mount* mount_of(const Layer& layer) const;
  const SwapInUse* swap_of(const Layer& layer) const;
  /// By physical volume; nothing: the kernel does not know one of them.
  std::optional<std::vector<DeviceNumber>> devices_of(const VolumeGroup& group) const;

  std::optional<InUse> look(const Layer& layer, Store& window) const override;
  std::string built_of(std::size_t disk) const override {
    return disks_[disk].holders.empty() ? std::string() : disks_[disk].holders.front();
  }

 private:
  void find_disks(const std::vector<std::string>& named, const std::vector<Added>& added);
  void open_disks();
  const MappedDevice* mapped(const std::string& group, const std::string& volume) const;
  std::vector<const Mount*> mounts_of(const DeviceNumber& device) const;
  const SwapInUse* swap_on(const DeviceNumber& device) const;
  const MappedDevice* suspended(const DeviceNumber& device) const;
  std::string trouble_of(const KernelDisk& disk) const;
  void check_added(const KernelDisk& disk, const std::optional<NewDisk>& begun) const;
  bool is_in_a_group(const KernelDisk& disk);

  KernelFacts& kernel_;
  std::vector<KernelDisk> disks_;
  std::vector<Error> left_out_;
  std::size_t old_disks_ = 0;  // the others are added
  std::vector<MappedDevice> mapped_;
  std::vector<Mount> mounts_;
  std::vector<SwapInUse> swaps_;
  std::vector<std::unique_ptr<Store>> stores_;
  std::unique_ptr<Guest> guest_;
};

/// Asks all disks that can be asked how large they are now: consoles enlarge them unseen.
void ask_for_sizes(Kernel& kernel);
/// The table of a plain volume, by its group's metadata. `devices`: numbers of the physical
/// volumes.
std::vector<MapLine> map_for(const lvm::Group& group, const lvm::Volume& volume,
                             const std::vector<DeviceNumber>& devices);
/// Whether the kernel's table is this one, or the beginning of it: what a volume had before it
/// grew.
bool begins_with(const std::vector<MapLine>& table, const std::vector<MapLine>& present);

}  // namespace jh::live
