// Guest: the disks of one guest, opened layer by layer, with the names the guest itself uses.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/container/container.h"
#include "core/guest/content.h"
#include "core/guest/fstab.h"
#include "core/guest/layer_id.h"
#include "core/guest/registry.h"
#include "core/lvm/read.h"
#include "core/store/views.h"
#include "core/table/table.h"

namespace jh {

/// A logical volume's place among the guest's groups.
struct VolumeIndex {
  std::size_t group = 0;
  std::size_t volume = 0;
};

/// What offers bytes for something to stand on: a partition, a whole disk without a table, a
/// logical volume, or what an encrypted layer holds.
struct Layer {
  LayerId id;
  std::size_t disk = 0;                // index into Guest::disks; a volume's first extent's
  std::optional<Partition> partition;  // nothing: the whole disk, or a volume
  std::optional<VolumeIndex> volume;
  Bytes offset;  // in what its table lies on: usually the disk; not of volumes
  Bytes size;
  std::unique_ptr<Store> window;
  Content content;
  std::vector<std::string> mount_points;  // as the guest has it: "/var", "swap", "C:"
  bool is_system = false;                 // holds the operating system
  bool is_set_aside = false;              // to start from, or to repair the system: never a default
  std::size_t storey = 0;  // how many layers that offer bytes lie below it, the disk not counted
  /// Of a disk that is kept here: its table.
  std::unique_ptr<PartitionTable> table;
  /// What stands on it and offers bytes in turn: the partitions of that table, or its payload.
  std::vector<Layer> inner;

  /// It is a part of a disk, or of an encrypted layer, that lies in another layer.
  bool is_inner() const { return id.partitions.size() > (id.volume.empty() ? 1U : 0U); }
  /// It is a disk of the guest, or a partition of one.
  bool lies_on_disk() const { return id.volume.empty() && !is_inner(); }
};

/// Calls visit(layer) for a layer and all that lie in it.
template <class AnyLayer, class Visit>
void for_each_layer(AnyLayer& layer, Visit visit) {
  visit(layer);
  for (auto& inner : layer.inner) for_each_layer(inner, visit);
}

struct Disk {
  std::string path;
  Store* file = nullptr;
  FileResolver* resolver = nullptr;
  bool added = false;               // not there yet
  std::uint32_t sector_size = 512;  // of a disk that is added
  std::unique_ptr<Container> container;
  std::unique_ptr<PartitionTable> table;  // null: none
  std::vector<Layer> layers;
  std::optional<Error> trouble;  // why the table could not be read
  Bytes size() const { return Bytes(container->disk().size()); }
};

/// The paths of all files that hold parts of the disk, its image first.
std::vector<std::string> files_of(const Disk& disk);

/// A volume group, and where its parts are.
struct VolumeGroup {
  explicit VolumeGroup(lvm::OpenGroup read) : open(std::move(read)) {}
  lvm::OpenGroup open;
  std::vector<const Layer*> devices;  // by physical volume; null: not found
  std::vector<Layer> volumes;         // by volume; those that cannot be opened have no window
  Bytes bytes(std::uint64_t extents) const { return Bytes(extents * open.group.extent_size); }
};

/// What a running system knows better than its disks tell it.
class Running {
 public:
  Running() = default;
  Running(const Running&) = delete;
  Running& operator=(const Running&) = delete;
  virtual ~Running() = default;

  /// What is in a place that is in use, and where it is mounted.
  struct InUse {
    Content content;
    std::vector<std::string> mount_points;
  };
  /// `window`: the layer's bytes, some of which the system may hold in newer form. Nothing: it is
  /// in no use, and can be looked at.
  virtual std::optional<InUse> look(const Layer& layer, Store& window) const = 0;
  /// What the system has built of a disk as a whole, by its name; empty: nothing.
  virtual std::string built_of(std::size_t disk) const = 0;
};

class Guest {
 public:
  struct Image {
    std::string path;
    Store* file = nullptr;             // must outlive the guest
    bool added = false;                // blank so far: to be made by the change that is planned
    FileResolver* resolver = nullptr;  // the files it may speak of; must outlive the guest too
    std::uint32_t sector_size = 0;     // 0: found out
    /// How it is opened; usually as what it holds.
    std::function<std::unique_ptr<Container>(Store&, FileResolver*)> open = open_container;
  };
  /// Throws what keeps an image from being opened at all; trouble further up is kept with its
  /// layer.
  explicit Guest(const std::vector<Image>& images, std::uint32_t sector_size = 0,
                 const Running* running = nullptr);

  const std::vector<Disk>& disks() const { return disks_; }
  std::vector<Disk>& disks() { return disks_; }
  const std::vector<VolumeGroup>& groups() const { return groups_; }
  const VolumeGroup& group_of(const Layer& volume) const { return groups_[volume.volume->group]; }
  const lvm::Volume& volume_of(const Layer& volume) const {
    return group_of(volume).open.group.volumes[volume.volume->volume];
  }
  /// The group and the number of the physical volume in this place; null: none that is known.
  const VolumeGroup* group_on(const Layer& layer, std::size_t& pv) const;
  /// Whether the guest uses only those LVM devices that it keeps a list of.
  /// Null: there is none of this name.
  const VolumeGroup* group_named(const std::string& name) const;
  bool lists_lvm_devices() const { return lists_lvm_devices_; }
  /// What it was told to take for all disks; 0: found out for each.
  std::uint32_t sector_size() const { return sector_size_; }
  /// As the user named them, in their order.
  std::vector<std::string> image_paths() const;
  /// It is the system that this runs on.
  /// Why a disk of the running system is not to be changed as it is: something is built of it, by
  /// which others may have it too. Empty: it may be.
  std::string held_as_a_whole(std::size_t disk) const;
  bool is_running() const { return running_ != nullptr; }
  const std::string& hostname() const { return hostname_; }
  const std::vector<FstabEntry>& fstab() const { return fstab_; }
  /// Where the guest sleeps, each with what to do about it. Its memory holds the truth of all its
  /// filesystems: while it is asleep nothing of it may be changed, wherever it lies.
  const std::vector<Error>& asleep() const { return asleep_; }

  /// "p3", or "2:p3" when the guest has several disks; "disk" for a disk without a table;
  /// "group/volume".
  std::string name_of(const Layer& layer) const;
  /// The name a technician would use: the first mount point, or else name_of.
  std::string best_name(const Layer& layer) const;
  /// All of them: disks and partitions with what is in them, then volumes.
  std::vector<const Layer*> layers() const;
  /// Whether a physical volume of the group lies on a volume, or on a disk that lies in one.
  static bool lies_deeper(const VolumeGroup& group);
  /// Whether a change can reach it: it lies on a disk of the guest, or is a volume whose group
  /// stands on such layers.
  bool in_reach(const Layer& layer) const;
  /// The disks that it lies on, whatever lies between, ascending.
  std::vector<std::size_t> disks_below(const Layer& layer) const;
  /// Calls visit(disk, offset, length) for where these bytes of a layer lie on the disks; of what
  /// is striped, whole rows.
  using DiskRange = std::function<void(std::size_t, std::uint64_t, std::uint64_t)>;
  void for_each_disk_range(const Layer& layer, std::uint64_t offset, std::uint64_t length,
                           const DiskRange& visit) const;
  /// Null: there is no such layer.
  const Layer* find(const LayerId& id) const;

 private:
  void open_disk(const Image& image, std::uint32_t sector_size);
  void fill_layers(Disk& disk, Layer whole);
  void look_into(Layer& layer) const;
  void open_inner(Layer& layer) const;
  std::vector<Layer> partitions_of(const PartitionTable& table, Store& disk, const Layer& outer,
                                   std::size_t storey) const;
  void open_groups();
  static void note_unclaimed(const lvm::Groups& found, const std::vector<Layer*>& devices);
  bool add_group(lvm::OpenGroup open, const std::vector<Layer*>& devices);
  void open_volumes(std::size_t index);
  void note_device_claim(Layer& layer, Store& store) const;
  std::vector<Layer*> all_layers();
  Filesystem* read_fstab();
  void read_letters();
  void find_saved_systems(Filesystem* root);
  void note_asleep(const Layer& layer, const std::string& what);
  bool matches(const Layer& layer, const FstabEntry& entry) const;
  bool matches(const Layer& layer, const DriveLetter& letter) const;
  bool matches_volume(const Layer& layer, const std::string& device) const;

  std::vector<Disk> disks_;
  std::vector<VolumeGroup> groups_;
  std::uint32_t sector_size_ = 0;
  const Running* running_ = nullptr;
  bool lists_lvm_devices_ = false;
  std::vector<FstabEntry> fstab_;
  std::string hostname_;
  std::vector<Error> asleep_;
};

/// Throws refused where the guest sleeps: then none of its layers may be changed, on any of its
/// disks, nor a copy of it be made that would run in its place.
void check_awake(const Guest& guest);

/// Whether the end of a partition, which what is in it reaches behind, could be put back.
bool can_get_end_back(const Guest& guest, const Layer& layer);

/// Throws damaged where something on this disk, or on a volume of a group that it is a part of,
/// says that it reaches behind its place: what looks free there may be its data. `but`: not of
/// this place.
void check_claims(const Guest& guest, std::size_t disk, const Layer* but = nullptr);

}  // namespace jh
