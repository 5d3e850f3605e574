// Growing volumes: how room reaches a volume group, and how its volumes share it.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "core/plan/grow_disk.h"

namespace jh {

/// What all targets of a growth have to do with.
struct GrowContext {
  const Guest& guest;
  const GrowRequest& request;
  Plan& plan;  // notes, and what remains to be done
  std::vector<DiskGrowth> disks;
  std::optional<std::size_t> resized{};  // the disk whose size is named
  std::vector<std::size_t> blank{};      // disks that are there, wholly blank, and go to the group
  bool alone = true;                     // one group, and nothing else, gets room
  /// Layers that something stands on and that lie on no disk themselves: their new sizes.
  std::map<const Layer*, Bytes> served{};
  bool grows() const { return resized && disks[*resized].becomes_larger(); }
  /// The size that a physical volume's layer could have in place, and at most; promising it one.
  Bytes reach_in_place(const Layer& device) const;
  Bytes reach(const Layer& device) const;
  void promise(const Layer& device, Bytes size);
  Bytes promised(const Layer& device) const;
};

/// A volume that is to become larger.
struct VolumeTarget {
  const Layer* volume = nullptr;
  Amount amount;
  bool asked = true;            // by the user; else for a group that stands on it
  bool carries_layers = false;  // a group, or a disk with a table: these have steps of their own
  std::uint64_t extents = 0;    // resolved: that it gains
  std::size_t pieces = 0;       // that they come in
};

/// A partition, perhaps on a disk that is made for it, that becomes a physical volume.
struct FreshDevice {
  std::size_t disk = 0;
  NewPartition partition;
  Bytes size;
  bool new_disk = false;
};

class GroupGrowth {
 public:
  GroupGrowth(const Guest& guest, std::size_t group)
      : guest_(&guest), group_(&guest.groups()[group]), planned_(group_->open) {}

  const VolumeGroup& group() const { return *group_; }
  const lvm::OpenGroup& planned() const { return planned_; }
  const std::vector<VolumeTarget>& volumes() const { return volumes_; }
  /// Those that become larger in place, by their number.
  const std::vector<std::size_t>& grown_devices() const { return grown_; }
  const std::vector<FreshDevice>& fresh_devices() const { return fresh_; }
  /// The volumes in the order they were served.
  const std::vector<std::size_t>& served() const { return served_; }
  std::uint64_t free_before() const { return free_before_; }  // extents

  void add_volume(const Layer& volume, const Amount& amount, const std::string& written);
  void add_device(const Layer& device, const Amount& amount, const std::string& written);
  /// The layers that lie on no disk and that it needs larger, each with how much. None: it has what
  /// it needs, or stands on disks only.
  std::vector<std::pair<const Layer*, Amount>> needs_below() const;
  void add_below(const Layer& volume, const Amount& amount);
  /// How many groups lie one below the other under it; 0: it stands on disks.
  std::size_t storey() const;
  /// Throws what stands against a change of the group or its volumes.
  void check() const;
  /// In which turn it is served: sizes come before percentages, and these before what takes the
  /// rest.
  Amount::Kind turn() const;
  /// Whether one of its physical volumes could follow the end of this disk.
  bool could_use(const GrowContext& scene, std::size_t disk) const;

  /// First is what the group has free; way 2: physical volumes grow, in place or where others make
  /// room; way 3: a new disk, or a new partition.
  void find_room(GrowContext& scene);
  /// For a group that is still short of room when all others have theirs: a new partition.
  void find_what_is_left(GrowContext& scene);
  /// Gives the volumes their shares.
  void share(GrowContext& scene);

 private:
  const lvm::Group& facts() const { return group_->open.group; }
  std::uint64_t wanted(const VolumeTarget& target) const;
  Bytes there_for(const VolumeTarget& target) const;
  std::uint64_t whole_room(const GrowContext& scene) const;
  std::uint64_t lacking() const;
  bool has_sizes() const;
  bool gains(std::size_t pv, Bytes size) const;
  void grow_device(GrowContext& scene, std::size_t pv, Bytes size);
  void grow_devices(GrowContext& scene, bool by_moves, bool frugal);
  Bytes needed_size(std::size_t pv, Bytes reach) const;
  bool is_target(const Layer& device) const;
  void add_disks(GrowContext& scene);
  void find_new_partition(GrowContext& scene);
  void use(GrowContext& scene, const FreshDevice& fresh);
  void serve(GrowContext& scene, std::size_t index);
  [[noreturn]] void refuse_amount(const GrowContext& scene, const VolumeTarget& target,
                                  std::uint64_t wanted, std::uint64_t got) const;

  const Guest* guest_;
  const VolumeGroup* group_;
  lvm::OpenGroup planned_;
  std::vector<const Layer*> device_targets_;
  std::vector<VolumeTarget> volumes_;
  std::vector<std::size_t> grown_;
  std::vector<FreshDevice> fresh_;
  std::vector<std::size_t> served_;
  std::uint64_t free_before_ = 0;
  std::uint64_t room_ = 0;  // extents, of which volumes get a share
};

/// Of a disk that is added: like the first one's, as far as an MBR reaches.
TableKind table_kind_of_new(const Guest& guest, const Disk& disk);
/// The same with 10 GiB more, for messages.
Suggestion command_by_10(const GrowRequest& request);

}  // namespace jh
