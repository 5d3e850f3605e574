#include "core/guest/guest.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/array/member.h"
#include "core/base/uuid.h"

namespace jh {
namespace {

constexpr std::size_t most_storeys = 16;

std::size_t recognised(const std::vector<Layer>& layers) {
  return static_cast<std::size_t>(
      std::count_if(layers.begin(), layers.end(), [](const Layer& layer) {
        return layer.content.kind != ContentKind::nothing &&
               layer.content.kind != ContentKind::unknown &&
               layer.content.kind != ContentKind::partition_table &&
               layer.content.kind != ContentKind::logical_partitions;
      }));
}

// What lies at `offset` of these bytes, not looked into.
Layer layer_in(Store& below, LayerId id, std::size_t disk, Bytes offset, Bytes size,
               const std::string& name) {
  Layer layer;
  layer.id = std::move(id);
  layer.disk = disk;
  layer.offset = offset;
  layer.size = size;
  layer.window = std::make_unique<WindowStore>(below, offset.value(), size.value(), name);
  return layer;
}

void add_context(Content& content, const std::string& name) {
  for (Error& blocker : content.blockers) blocker = blocker.with_context(name);
}

}  // namespace

std::vector<std::string> files_of(const Disk& disk) {
  std::vector<std::string> files{disk.path};
  for (const std::string& part : disk.container->facts().parts) files.push_back(part);
  return files;
}

Guest::Guest(const std::vector<Image>& images, std::uint32_t sector_size, const Running* running)
    : sector_size_(sector_size), running_(running) {
  for (const Image& image : images)
    open_disk(image, image.sector_size == 0 ? sector_size : image.sector_size);
  open_groups();
  Filesystem* root = read_fstab();
  read_letters();
  if (!is_running()) find_saved_systems(root);
}

void Guest::open_disk(const Image& image, std::uint32_t sector_size) {
  const std::size_t index = disks_.size();
  Disk disk;
  disk.path = image.path;
  disk.file = image.file;
  disk.resolver = image.resolver;
  disk.added = image.added;
  if (sector_size != 0) disk.sector_size = sector_size;
  disk.container = image.open(*image.file, image.resolver);
  const auto whole = [&](const Disk& of) {
    return layer_in(of.container->disk(), LayerId(index), index, Bytes(0), of.size(), image.path);
  };
  if (disk.container->facts().encrypted) {
    // What it holds would only look like something by chance.
    Layer& layer = disk.layers.emplace_back(whole(disk));
    layer.content.kind = ContentKind::encrypted;
    layer.content.name = "encrypted content";
    disks_.push_back(std::move(disk));
    return;
  }
  try {
    // Of an array of whole disks the table shows through, but it is not this disk's.
    if (!array::recognise(disk.container->disk()))
      disk.table = open_table(disk.container->disk(), sector_size);
  } catch (const Error& error) {
    disk.trouble = error;
    disks_.push_back(std::move(disk));
    return;
  }
  fill_layers(disk, whole(disk));
  // An MBR does not say how large its sectors are. Where nothing known begins at the places that
  // 512-byte sectors give, but something does with 4096, the disk has such.
  if (sector_size == 0 && disk.table && disk.table->facts().kind == TableKind::mbr &&
      recognised(disk.layers) == 0 && disk.size().value() % 4096 == 0) {
    Disk other;
    other.container = image.open(*image.file, image.resolver);
    other.table = open_table(other.container->disk(), 4096);
    fill_layers(other, whole(other));
    if (recognised(other.layers) != 0) {
      other.path = disk.path;
      other.file = disk.file;
      other.resolver = disk.resolver;
      disk = std::move(other);
    }
  }
  disks_.push_back(std::move(disk));
}

// What its own system knows of it, or what its bytes say; and what stands on it in turn.
void Guest::look_into(Layer& layer) const {
  if (running_ != nullptr) {
    if (auto found = running_->look(layer, *layer.window)) {
      layer.content = std::move(found->content);
      layer.mount_points = std::move(found->mount_points);
      return;
    }
    layer.content = recognise_content(*layer.window);
    return;
  }
  if (layer.storey > most_storeys) {
    layer.content.name = "not looked into";
    layer.content.blockers.push_back(
        Error(Status::damaged, fmt::format("more than {} layers lie on each other", most_storeys),
              "", "look at it from inside the guest"));
    return;
  }
  layer.content = recognise_content(*layer.window);
  open_inner(layer);
}

void Guest::open_inner(Layer& layer) const {
  Content& content = layer.content;
  if (const auto& payload = content.header().payload) {
    Layer& locked = layer.inner.emplace_back(
        layer_in(*layer.window, layer.id.partition(LayerId::payload), layer.disk,
                 Bytes(payload->offset), Bytes(payload->size), layer.window->name() + ", payload"));
    locked.storey = layer.storey + 1;
    locked.content.kind = ContentKind::locked;
    locked.content.name = "locked";
    locked.content.state = payload->locked;
    return;
  }
  if (content.kind != ContentKind::unknown) return;
  try {
    layer.table = open_table(*layer.window);
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;
    return;  // what looks like one, and cannot be read, is nothing that is known
  }
  if (!layer.table) return;
  const TableFacts& facts = layer.table->facts();
  if (facts.partitions.empty() || !facts.blockers.empty()) {
    layer.table.reset();  // it only looked like one
    return;
  }
  content.kind = ContentKind::partition_table;
  content.name = fmt::format("a disk with {}", facts.kind == TableKind::gpt ? "a GPT" : "an MBR");
  layer.inner = partitions_of(*layer.table, *layer.window, layer, layer.storey + 1);
}

// `outer`: what the table is on.
std::vector<Layer> Guest::partitions_of(const PartitionTable& table, Store& disk,
                                        const Layer& outer, std::size_t storey) const {
  const TableFacts& facts = table.facts();
  std::vector<Layer> layers;
  for (const Partition& partition : facts.partitions) {
    const Bytes offset = to_bytes(partition.first, facts.sector_size);
    const Bytes size = to_bytes(partition.count, facts.sector_size);
    if (checked_add(offset.value(), size.value()) > disk.size()) continue;  // a blocker names it
    const std::string name =
        fmt::format("{}, partition {}", outer.window->name(), partition.number);
    Layer& layer = layers.emplace_back(
        layer_in(disk, outer.id.partition(partition.number), outer.disk, offset, size, name));
    layer.partition = partition;
    layer.storey = storey;
    if (partition.role == PartitionRole::extended) {
      layer.content.kind = ContentKind::logical_partitions;
      layer.content.name = "logical partitions";
    } else {
      look_into(layer);
    }
    add_context(layer.content, name);
  }
  return layers;
}

void Guest::fill_layers(Disk& disk, Layer whole) {
  if (disk.table) {
    disk.layers = partitions_of(*disk.table, disk.container->disk(), whole, 0);
    return;
  }
  look_into(whole);
  add_context(whole.content, whole.window->name());
  disk.layers.push_back(std::move(whole));
}

// A group counts once all its physical volumes are known; they may lie on volumes of others. What
// is incomplete in the end is put together as far as it goes.
void Guest::open_groups() {
  const auto is_device = [](const Layer* layer) {
    return layer->content.kind == ContentKind::physical_volume;
  };
  std::vector<Layer*> waiting = all_layers();
  std::erase_if(waiting, [&](const Layer* layer) { return !is_device(layer); });
  std::vector<Layer*> devices = waiting;
  for (bool more = true; more;) {
    std::vector<Store*> stores;
    for (const Layer* layer : waiting) stores.push_back(layer->window.get());
    lvm::Groups found = lvm::find_groups(stores);
    const auto whole = [](const lvm::OpenGroup& group) {
      return std::all_of(group.members.begin(), group.members.end(),
                         [](const auto& member) { return member.has_value(); });
    };
    const bool all = std::none_of(found.groups.begin(), found.groups.end(), whole);
    more = false;
    std::vector<Layer*> taken;
    const std::size_t known = groups_.size();
    for (lvm::OpenGroup& open : found.groups) {
      if (!all && !whole(open)) continue;
      for (const auto& member : open.members)
        if (member) taken.push_back(waiting[member->place]);
      more = add_group(std::move(open), waiting) || more;
    }
    if (!more || taken.empty()) note_unclaimed(found, waiting);
    std::erase_if(waiting, [&](const Layer* layer) {
      return std::find(taken.begin(), taken.end(), layer) != taken.end();
    });
    // In a running system what is in a volume is its kernel's matter.
    for (std::size_t i = known; !is_running() && i < groups_.size(); ++i)
      for (Layer& volume : groups_[i].volumes)
        for_each_layer(volume, [&](Layer& layer) {
          if (!is_device(&layer)) return;
          waiting.push_back(&layer);
          devices.push_back(&layer);
        });
  }
  for (Layer* layer : devices) note_device_claim(*layer, *layer->window);
}

// A whole disk as a physical volume is held by its own volumes.
std::string Guest::held_as_a_whole(std::size_t disk) const {
  const std::string built = running_ == nullptr ? std::string() : running_->built_of(disk);
  const auto& layers = disks_[disk].layers;
  std::size_t pv = 0;
  const bool whole_device =
      layers.size() == 1 && !layers.front().partition && group_on(layers.front(), pv) != nullptr;
  if (built.empty() || whole_device) return {};
  return "the disk is a part of " + built + ", by which it may be shared";
}

// Physical volumes in trouble, and those of no group.
void Guest::note_unclaimed(const lvm::Groups& found, const std::vector<Layer*>& devices) {
  for (const lvm::Trouble& trouble : found.trouble) {
    devices[trouble.place]->content.state = "damaged";
    devices[trouble.place]->content.blockers.push_back(trouble.error);
  }
  for (const std::size_t device : found.unclaimed)
    if (devices[device]->content.blockers.empty()) devices[device]->content.state = "in no group";
}

// Whether it is one. What says that it belongs to a group that was put together already does not:
// the group would lie on itself, or a second copy of it is there.
bool Guest::add_group(lvm::OpenGroup open, const std::vector<Layer*>& devices) {
  for (const VolumeGroup& other : groups_) {
    if (other.open.group.id != open.group.id) continue;
    for (const auto& member : open.members) {
      if (!member) continue;
      Content& content = devices[member->place]->content;
      content.state = "damaged";
      content.blockers.push_back(Error(
          Status::damaged,
          fmt::format("it says that it is a part of group {}, which lies below it or is there "
                      "twice",
                      open.group.name),
          "LVM", "look at it from inside the guest that made it"));
    }
    return false;
  }
  VolumeGroup& group = groups_.emplace_back(std::move(open));
  for (std::size_t pv = 0; pv < group.open.members.size(); ++pv) {
    const auto& member = group.open.members[pv];
    group.devices.push_back(member ? devices[member->place] : nullptr);
    if (!member) continue;
    Content& content = devices[member->place]->content;
    content.label = group.open.group.name;
    content.uuid = lvm::id_with_hyphens(member->device.id);
    const std::uint64_t free = group.open.group.free_on(pv);
    const std::uint64_t extents = group.open.group.pvs[pv].extents;
    content.size = group.bytes(extents);
    content.used = group.bytes(extents - free);
    content.state = group.open.blockers().empty() ? "clean" : "not to be changed";
  }
  try {
    open_volumes(groups_.size() - 1);
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;
    // What one group says that cannot be is no matter of the others.
    group.volumes.clear();
    group.open.group.volumes.clear();
    group.open.group.blockers.push_back(error.with_context("group " + group.open.group.name));
  }
  return true;
}

// What its label, its areas and its group say, as far as they can be read.
void Guest::note_device_claim(Layer& layer, Store& store) const {
  try {
    std::uint64_t reach = lvm::claimed_size(lvm::read_device(store));
    std::size_t pv = 0;
    if (const VolumeGroup* group = group_on(layer, pv)) {
      const lvm::Group& facts = group->open.group;
      reach = std::max(reach, checked_add(facts.pvs[pv].data_start,
                                          checked_mul(facts.pvs[pv].extents, facts.extent_size)));
    }
    note_claim(layer.content, reach, layer.size);
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;  // else its trouble is noted already
  }
}

void Guest::open_volumes(std::size_t index) {
  VolumeGroup& group = groups_[index];
  const lvm::Group& facts = group.open.group;
  for (std::size_t i = 0; i < facts.volumes.size(); ++i) {
    const lvm::Volume& volume = facts.volumes[i];
    Layer layer;
    layer.volume = VolumeIndex{index, i};
    layer.size = Bytes(checked_mul(volume.extents, facts.extent_size));
    for (const lvm::Segment& segment : volume.segments) {
      if (!segment.plain() || group.devices[segment.stripes.front().pv] == nullptr) continue;
      layer.disk = group.devices[segment.stripes.front().pv]->disk;
      break;
    }
    for (const Layer* device : group.devices)
      if (device != nullptr) layer.storey = std::max(layer.storey, device->storey + 1);
    layer.id = LayerId(layer.disk, facts.name + "/" + volume.name);
    const std::string name = "volume " + layer.id.volume;
    if (volume.plain() && volume.visible) layer.window = open_volume(group.open, volume, name);
    if (layer.window) {
      look_into(layer);
      add_context(layer.content, name);
    } else {
      layer.content.name =
          volume.plain() ? "not looked into" : fmt::format("{} volume", volume.kind);
      layer.content.state = volume.plain() ? "incomplete" : "left as it is";
    }
    group.volumes.push_back(std::move(layer));
  }
}

}  // namespace jh
