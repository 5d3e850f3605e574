#include "core/guest/guest.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "core/array/member.h"
#include "core/base/shell_word.h"
#include "core/base/uuid.h"

namespace jh {
namespace {

std::size_t recognised(const std::vector<Place>& places) {
  return static_cast<std::size_t>(
      std::count_if(places.begin(), places.end(), [](const Place& place) {
        return place.content.kind != ContentKind::nothing &&
               place.content.kind != ContentKind::unknown &&
               place.content.kind != ContentKind::logical_partitions;
      }));
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
  disk.container = open_container(*image.file, image.resolver);
  if (disk.container->facts().encrypted) {
    // What it holds would only look like something by chance.
    fill_places(disk, index);
    Content& content = disk.places.front().content;
    content = Content();
    content.kind = ContentKind::encrypted;
    content.name = "encrypted content";
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
  fill_places(disk, index);
  // An MBR does not say how large its sectors are. Where nothing known begins at the places that
  // 512-byte sectors give, but something does with 4096, the disk has such.
  if (sector_size == 0 && disk.table && disk.table->facts().kind == TableKind::mbr &&
      recognised(disk.places) == 0 && disk.size().value() % 4096 == 0) {
    Disk other;
    other.container = open_container(*image.file, image.resolver);
    other.table = open_table(other.container->disk(), 4096);
    fill_places(other, index);
    if (recognised(other.places) != 0) {
      other.path = disk.path;
      other.file = disk.file;
      other.resolver = disk.resolver;
      disk = std::move(other);
    }
  }
  disks_.push_back(std::move(disk));
}

void Guest::look_into(Place& place, const std::string& volume) const {
  if (running_ != nullptr)
    if (auto found = running_->look(place, volume, *place.window)) {
      place.content = std::move(found->content);
      place.mount_points = std::move(found->mount_points);
      return;
    }
  place.content = recognise_content(*place.window);
}

void Guest::fill_places(Disk& disk, std::size_t index) {
  Store& below = disk.container->disk();
  const auto add = [&](std::optional<Partition> partition, Bytes offset, Bytes size) {
    Place place;
    place.disk = index;
    place.partition = std::move(partition);
    place.offset = offset;
    place.size = size;
    const std::string name =
        place.partition ? fmt::format("{}, partition {}", disk.path, place.partition->number)
                        : disk.path;
    place.window = std::make_unique<WindowStore>(below, offset.value(), size.value(), name);
    if (place.partition && place.partition->role == PartitionRole::extended) {
      place.content.kind = ContentKind::logical_partitions;
      place.content.name = "logical partitions";
    } else {
      look_into(place, "");
    }
    for (Error& blocker : place.content.blockers) blocker = blocker.with_context(name);
    disk.places.push_back(std::move(place));
  };
  if (!disk.table) {
    add(std::nullopt, Bytes(0), disk.size());
    return;
  }
  const TableFacts& facts = disk.table->facts();
  for (const Partition& partition : facts.partitions) {
    const Bytes offset = to_bytes(partition.first, facts.sector_size);
    const Bytes size = to_bytes(partition.count, facts.sector_size);
    if (checked_add(offset.value(), size.value()) > below.size()) continue;  // a blocker names it
    add(partition, offset, size);
  }
}

void Guest::open_groups() {
  std::vector<Place*> places;
  std::vector<Store*> stores;
  for (Disk& disk : disks_) {
    for (Place& place : disk.places) {
      if (place.content.kind != ContentKind::physical_volume) continue;
      places.push_back(&place);
      stores.push_back(place.window.get());
    }
  }
  lvm::Groups found = lvm::find_groups(stores);
  for (const lvm::Trouble& trouble : found.trouble) {
    places[trouble.place]->content.state = "damaged";
    places[trouble.place]->content.blockers.push_back(trouble.error);
  }
  for (const std::size_t place : found.unclaimed)
    if (places[place]->content.blockers.empty()) places[place]->content.state = "in no group";
  for (lvm::OpenGroup& open : found.groups) {
    VolumeGroup& group = groups_.emplace_back(std::move(open));
    for (std::size_t pv = 0; pv < group.open.members.size(); ++pv) {
      const auto& member = group.open.members[pv];
      group.devices.push_back(member ? places[member->place] : nullptr);
      if (!member) continue;
      Content& content = places[member->place]->content;
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
  }
  for (std::size_t i = 0; i < places.size(); ++i) note_device_claim(*places[i], *stores[i]);
}

// What its label, its areas and its group say, as far as they can be read.
void Guest::note_device_claim(Place& place, Store& store) const {
  try {
    std::uint64_t reach = lvm::claimed_size(lvm::read_device(store));
    std::size_t pv = 0;
    if (const VolumeGroup* group = group_on(place, pv)) {
      const lvm::Group& facts = group->open.group;
      reach = std::max(reach, checked_add(facts.pvs[pv].data_start,
                                          checked_mul(facts.pvs[pv].extents, facts.extent_size)));
    }
    note_claim(place.content, reach, place.size);
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;  // else its trouble is noted already
  }
}

void Guest::open_volumes(std::size_t index) {
  VolumeGroup& group = groups_[index];
  const lvm::Group& facts = group.open.group;
  for (std::size_t i = 0; i < facts.volumes.size(); ++i) {
    const lvm::Volume& volume = facts.volumes[i];
    Place place;
    place.volume = VolumeIndex{index, i};
    place.size = Bytes(checked_mul(volume.extents, facts.extent_size));
    for (const lvm::Segment& segment : volume.segments) {
      if (!segment.plain() || group.devices[segment.stripes.front().pv] == nullptr) continue;
      place.disk = group.devices[segment.stripes.front().pv]->disk;
      break;
    }
    const std::string name = fmt::format("volume {}/{}", facts.name, volume.name);
    if (volume.plain() && volume.visible) place.window = open_volume(group.open, volume, name);
    if (place.window) {
      look_into(place, facts.name + "/" + volume.name);
      for (Error& blocker : place.content.blockers) blocker = blocker.with_context(name);
    } else {
      place.content.name =
          volume.plain() ? "not looked into" : fmt::format("{} volume", volume.kind);
      place.content.state = volume.plain() ? "incomplete" : "left as it is";
    }
    group.volumes.push_back(std::move(place));
  }
}

std::vector<std::string> Guest::image_paths() const {
  std::vector<std::string> paths;
  for (const Disk& disk : disks_) paths.push_back(disk.path);
  return paths;
}

bool can_get_end_back(const Guest& guest, const Place& place) {
  if (!place.content.claims || !place.partition) return false;
  const PartitionTable& table = *guest.disks()[place.disk].table;
  return to_bytes(table.reach(*place.partition) - place.partition->first,
                  table.facts().sector_size) >= *place.content.claims;
}

void check_claims(const Guest& guest, std::size_t disk, const Place* but) {
  const auto check = [&](const Place& place) {
    if (!place.content.claims || &place == but) return;
    const std::string name = guest.name_of(place);
    throw Error(Status::damaged,
                fmt::format("{} on {} says that it is {} long, and {} has only {}: what looks free "
                            "behind it may be its data",
                            place.content.name, name, human(*place.content.claims), name,
                            human(place.size)),
                guest.disks()[place.disk].path + ", " + name,
                can_get_end_back(guest, place)
                    ? "put its end back first:\n  juneheath grow " +
                          shell_words(guest.image_paths()) + " --give " + shell_word(name)
                    : "put the end of its place back to where it was, from a backup of the table "
                      "or of the volume group's metadata")
        .with_reason(Reason::beyond_place);
  };
  for (const Place& place : guest.disks()[disk].places) check(place);
  for (const VolumeGroup& group : guest.groups()) {
    const bool here =
        std::any_of(group.devices.begin(), group.devices.end(),
                    [&](const Place* device) { return device != nullptr && device->disk == disk; });
    if (here)
      for (const Place& volume : group.volumes) check(volume);
  }
}

const VolumeGroup* Guest::group_named(const std::string& name) const {
  for (const VolumeGroup& group : groups_)
    if (group.open.group.name == name) return &group;
  return nullptr;
}

const VolumeGroup* Guest::group_on(const Place& place, std::size_t& pv) const {
  for (const VolumeGroup& group : groups_)
    for (std::size_t i = 0; i < group.devices.size(); ++i)
      if (group.devices[i] != nullptr && group.devices[i]->disk == place.disk &&
          group.devices[i]->offset == place.offset && !place.volume) {
        pv = i;
        return &group;
      }
  return nullptr;
}

std::string Guest::name_of(const Place& place) const {
  if (place.volume) return group_of(place).open.group.name + "/" + volume_of(place).name;
  const std::string own = place.partition ? fmt::format("p{}", place.partition->number) : "disk";
  return disks_.size() == 1 ? own : fmt::format("{}:{}", place.disk + 1, own);
}

std::string Guest::best_name(const Place& place) const {
  for (const std::string& point : place.mount_points) {
    const auto all = places();
    // Two filesystems with one label claim one mount point: then only the number tells them apart.
    const auto claims = std::count_if(all.begin(), all.end(), [&](const Place* other) {
      return std::find(other->mount_points.begin(), other->mount_points.end(), point) !=
             other->mount_points.end();
    });
    if (claims == 1) return point;
  }
  return name_of(place);
}

std::vector<const Place*> Guest::places() const {
  std::vector<const Place*> all;
  for (const Disk& disk : disks_)
    for (const Place& place : disk.places) all.push_back(&place);
  for (const VolumeGroup& group : groups_)
    for (const Place& place : group.volumes) all.push_back(&place);
  return all;
}

}  // namespace jh
