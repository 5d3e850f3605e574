#include "core/plan/floors.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/lvm/shrink.h"

namespace jh {
namespace {

LayerFloor fixed(const Layer& layer, const std::string& why) { return {layer.size, why}; }

// How far up the physical volume something lies that juneheath does not move.
std::uint64_t fixed_extents(const lvm::Group& group, std::size_t pv) {
  std::uint64_t end = 0;
  for (const lvm::Holding& held : group.holdings(pv))
    if (held.segment == SIZE_MAX) end = std::max(end, held.first + held.count);
  return end;
}

}  // namespace

std::optional<Error> no_shrinking(const Layer& layer) {
  const Content& content = layer.content;
  if (!content.blockers.empty()) return content.blockers.front();
  if (can_be_resized(content)) return std::nullopt;
  return Error(Status::unsupported, content.name + " cannot be made smaller", {},
               "make it smaller from inside the guest first, if it can be");
}

const LayerFloor& Floors::of_content(const Layer& layer) {
  const auto [known, fresh] = contents_.try_emplace(&layer);
  if (!fresh) return known->second;
  LayerFloor& floor = known->second;
  if (const auto why = no_shrinking(layer)) {
    floor = fixed(layer, why->what());
  } else {
    const FilesystemFloor found = layer.content.filesystem()->floor();
    floor = {found.size, found.reason};
  }
  return floor;
}

LayerFloor Floors::of_device(const VolumeGroup& group, std::size_t pv, const Layer& layer) {
  const lvm::Group& facts = group.open.group;
  if (const auto blockers = group.open.blockers(); !blockers.empty())
    return fixed(layer, blockers.front().what());
  std::uint64_t needed = 0;
  for (const Layer& volume : group.volumes) needed += of_volume(volume);
  // What others hold that cannot move counts as theirs already; more than they have cannot go
  // there. Of those on this disk the last ones give first.
  std::vector<std::size_t> here;
  for (std::size_t other = 0; other < facts.pvs.size(); ++other) {
    const Layer* device = group.devices[other];
    if (device != nullptr && device->disk == layer.disk)
      here.push_back(other);
    else if (facts.pvs[other].takes_more())
      needed -= std::min(needed, facts.pvs[other].extents);
  }
  std::sort(here.begin(), here.end(), [&](std::size_t a, std::size_t b) {
    return group.devices[a]->offset < group.devices[b]->offset;
  });
  std::uint64_t in_front = 0;
  for (const std::size_t each : here)
    if (facts.pvs[each].takes_more()) in_front += facts.pvs[each].extents;
  std::uint64_t extents = 1;
  for (auto each = here.rbegin(); each != here.rend(); ++each) {
    const lvm::PhysicalVolume& device = facts.pvs[*each];
    if (device.takes_more()) in_front -= device.extents;
    extents = std::max<std::uint64_t>(needed > in_front ? needed - in_front : 1,
                                      fixed_extents(facts, *each));
    extents = std::min(extents, device.extents);
    needed -= std::min(needed, extents);
    if (*each == pv) break;
  }
  std::uint64_t size =
      facts.pvs[pv].data_start + std::min(extents, facts.pvs[pv].extents) * facts.extent_size;
  // An area of metadata at the end takes its room as well.
  while (lvm::extents_of(group.open, pv, size) < std::min(extents, facts.pvs[pv].extents) &&
         size < layer.size.value())
    size += lvm::sector * 2048;
  return {std::min(Bytes(size), layer.size),
          fmt::format("{} extent{} that the volumes of group {} need at least", extents,
                      extents == 1 ? "" : "s", facts.name)};
}

std::uint64_t Floors::of_volume(const Layer& layer) {
  const lvm::Volume& volume = guest_.volume_of(layer);
  if (!volume.plain() || !volume.used_by.empty() || !volume.visible || !layer.window ||
      no_shrinking(layer))
    return volume.extents;
  const std::uint64_t unit = guest_.group_of(layer).open.group.extent_size;
  const std::uint64_t extents = ceil_div(of_content(layer).size.value(), unit);
  return std::min(volume.extents, lvm::whole_size(volume, std::max<std::uint64_t>(extents, 1)));
}

LayerFloor Floors::of_extended(const Layer& layer) {
  LayerFloor floor{Bytes(0), "no logical partition"};
  for (const Layer& inner : guest_.disks()[layer.disk].layers) {
    if (!inner.partition || inner.partition->role != PartitionRole::logical) continue;
    const Bytes end = inner.offset + of(inner).size;
    if (end > layer.offset + floor.size)
      floor = {end - layer.offset, guest_.name_of(inner) + " stands in it"};
  }
  return {std::min(floor.size, layer.size), floor.reason};
}

LayerFloor Floors::of(const Layer& layer) {
  if (!guest_.in_reach(layer) || layer.is_inner())
    return fixed(layer, "it lies inside of another layer");
  if (layer.volume) {
    LayerFloor floor = layer.window ? of_content(layer) : fixed(layer, "its disk is not there");
    floor.size = guest_.group_of(layer).bytes(of_volume(layer));
    return floor;
  }
  std::size_t pv = 0;
  if (const VolumeGroup* group = guest_.group_on(layer, pv)) return of_device(*group, pv, layer);
  if (layer.content.kind == ContentKind::logical_partitions) return of_extended(layer);
  return of_content(layer);
}

Sectors aligned_end(const Disk& disk, const Partition& partition, Bytes place_size) {
  const PartitionTable& table = *disk.table;
  const Sectors end =
      partition.first + Sectors(ceil_div(place_size.value(), table.facts().sector_size));
  return std::min(partition.end(), table.is_aligned(partition.end()) ? table.align_up(end) : end);
}

Bytes disk_for(const Disk& disk, Sectors end) {
  const TableFacts& facts = disk.table->facts();
  const std::uint64_t unit =
      std::max<std::uint64_t>(disk.container->size_unit().value(), facts.sector_size);
  Bytes size(round_up(to_bytes(end, facts.sector_size).value(), unit));
  while (disk.table->usable_end_on(size) < end && size < disk.size()) size += Bytes(unit);
  return std::min(size, disk.size());
}

LayerFloor Floors::of_disk(std::size_t index) {
  const Disk& disk = guest_.disks()[index];
  if (disk.trouble) return {disk.size(), disk.trouble->what()};
  if (disk.layers.empty()) return {disk.size(), "nothing is known of what is on it"};
  if (!disk.table) {
    LayerFloor floor = of(disk.layers.front());
    floor.size = std::min(disk.size(),
                          Bytes(round_up(floor.size.value(), disk.container->size_unit().value())));
    return floor;
  }
  if (!disk.table->facts().blockers.empty())
    return {disk.size(), disk.table->facts().blockers.front().what()};
  Sectors end = disk.table->facts().first_usable;
  std::string reason = "the partition table";
  // Only what stands last can end earlier; all before it keeps its place.
  for (const Layer& layer : disk.layers) {
    if (!layer.partition) continue;
    const bool last = std::none_of(disk.layers.begin(), disk.layers.end(), [&](const Layer& other) {
      return other.partition && other.partition->role != PartitionRole::extended &&
             other.partition->first >= layer.partition->end();
    });
    const bool outer = layer.partition->role == PartitionRole::extended;
    const LayerFloor floor = last && !outer ? of(layer) : LayerFloor{layer.size, ""};
    if (outer && last) continue;  // it ends with what is in it
    Sectors at = aligned_end(disk, *layer.partition, floor.size);
    if (const auto& claims = layer.content.claims)
      at = std::max(at, layer.partition->first +
                            Sectors(ceil_div(claims->value(), disk.table->facts().sector_size)));
    if (at <= end) continue;
    end = at;
    reason = floor.reason.empty() ? guest_.name_of(layer)
                                  : fmt::format("{} ({})", guest_.name_of(layer), floor.reason);
    if (layer.content.claims)
      reason = guest_.name_of(layer) + " (whose content claims room up to there)";
  }
  return {disk_for(disk, end), reason};
}

}  // namespace jh
