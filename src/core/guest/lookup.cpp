// What a guest is asked for: its layers and groups by id, name and place.
#include <fmt/format.h>

#include <algorithm>

#include "core/guest/guest.h"

namespace jh {

std::vector<std::string> Guest::image_paths() const {
  std::vector<std::string> paths;
  for (const Disk& disk : disks_) paths.push_back(disk.path);
  return paths;
}

bool can_get_end_back(const Guest& guest, const Layer& layer) {
  if (!layer.content.claims || !layer.partition) return false;
  const PartitionTable& table = *guest.disks()[layer.disk].table;
  return to_bytes(table.reach(*layer.partition) - layer.partition->first,
                  table.facts().sector_size) >= *layer.content.claims;
}

void check_claims(const Guest& guest, std::size_t disk, const Layer* but) {
  const auto check = [&](const Layer& layer) {
    if (!layer.content.claims || &layer == but) return;
    const std::string name = guest.name_of(layer);
    throw Error(
        Status::damaged,
        fmt::format("{} on {} says that it is {} long, and {} has only {}: what looks free "
                    "behind it may be its data",
                    layer.content.name, name, human(*layer.content.claims), name,
                    human(layer.size)),
        guest.disks()[layer.disk].path + ", " + name,
        can_get_end_back(guest, layer)
            ? "put its end back first:\n  " +
                  suggest("grow", guest.image_paths()).with("give", name)
            : Advice("put the end of its place back to where it was, from a backup of the table "
                     "or of the volume group's metadata"))
        .with_reason(Reason::beyond_place);
  };
  for (const Layer& layer : guest.disks()[disk].layers) for_each_layer(layer, check);
  for (const VolumeGroup& group : guest.groups()) {
    const bool here =
        std::any_of(group.devices.begin(), group.devices.end(),
                    [&](const Layer* device) { return device != nullptr && device->disk == disk; });
    if (here)
      for (const Layer& volume : group.volumes) for_each_layer(volume, check);
  }
}

const VolumeGroup* Guest::group_named(const std::string& name) const {
  for (const VolumeGroup& group : groups_)
    if (group.open.group.name == name) return &group;
  return nullptr;
}

const VolumeGroup* Guest::group_on(const Layer& layer, std::size_t& pv) const {
  for (const VolumeGroup& group : groups_)
    for (std::size_t i = 0; i < group.devices.size(); ++i)
      if (group.devices[i] != nullptr && group.devices[i]->id == layer.id) {
        pv = i;
        return &group;
      }
  return nullptr;
}

std::string Guest::name_of(const Layer& layer) const {
  std::string name = layer.id.volume;
  if (name.empty() && disks_.size() > 1) name = std::to_string(layer.id.disk + 1);
  for (const std::uint32_t number : layer.id.partitions) {
    if (!name.empty()) name += ":";
    name += number == LayerId::payload ? "payload" : fmt::format("p{}", number);
  }
  if (!layer.id.volume.empty() || !layer.id.partitions.empty()) return name;
  return name.empty() ? "disk" : name + ":disk";
}

std::string Guest::best_name(const Layer& layer) const {
  for (const std::string& point : layer.mount_points) {
    const auto all = layers();
    // Two filesystems with one label claim one mount point: then only the number tells them apart.
    const auto claims = std::count_if(all.begin(), all.end(), [&](const Layer* other) {
      return std::find(other->mount_points.begin(), other->mount_points.end(), point) !=
             other->mount_points.end();
    });
    if (claims == 1) return point;
  }
  return name_of(layer);
}

std::vector<const Layer*> Guest::layers() const {
  std::vector<const Layer*> all;
  const auto add = [&](const Layer& layer) { all.push_back(&layer); };
  for (const Disk& disk : disks_)
    for (const Layer& layer : disk.layers) for_each_layer(layer, add);
  for (const VolumeGroup& group : groups_)
    for (const Layer& layer : group.volumes) for_each_layer(layer, add);
  return all;
}

bool Guest::lies_deeper(const VolumeGroup& group) {
  return std::any_of(group.devices.begin(), group.devices.end(), [](const Layer* device) {
    return device != nullptr && !device->lies_on_disk();
  });
}

bool Guest::in_reach(const Layer& layer) const {
  if (layer.is_inner()) {
    const Layer* outer = find(layer.id.outer());
    return !is_running() && layer.partition && outer != nullptr && in_reach(*outer);
  }
  if (!layer.volume) return true;
  const auto& devices = group_of(layer).devices;
  return std::all_of(devices.begin(), devices.end(),
                     [&](const Layer* device) { return device == nullptr || in_reach(*device); });
}

const Layer* Guest::find(const LayerId& id) const {
  const auto same = [&](const Layer* layer) {
    return layer->id.volume == id.volume && layer->id.partitions == id.partitions &&
           (!id.volume.empty() || layer->id.disk == id.disk);
  };
  const auto all = layers();
  const auto found = std::find_if(all.begin(), all.end(), same);
  return found == all.end() ? nullptr : *found;
}

}  // namespace jh
