#include "core/plan/room.h"

#include <algorithm>

#include "core/lvm/grow.h"
#include "core/plan/content.h"

namespace jh {

Bytes room_in_group(const Guest& guest, const Layer& layer) {
  const VolumeGroup& group = guest.group_of(layer);
  const lvm::Volume& volume = guest.volume_of(layer);
  Bytes room{};
  if (volume.plain() && volume.used_by.empty() && volume.visible) {
    room = group.bytes(lvm::room(group.open.group, volume));
  }
  const Bytes size = content_size(layer);
  return size < layer.size ? room + (layer.size - size) : room;
}

Bytes inner_reach(const Guest& guest, const Layer& layer, Bytes disk_size) {
  const PartitionTable& table = *guest.find(layer.id.outer())->table;
  const Sectors end = aligned_reach(table, *layer.partition, disk_size);
  return to_bytes(end - layer.partition->first, table.facts().sector_size);
}

Bytes room_of(const Guest& guest, const Layer& layer, Bytes disk_size) {
  if (layer.content.kind == ContentKind::logical_partitions || !guest.in_reach(layer))
    return Bytes(0);
  if (layer.volume) return room_in_group(guest, layer);
  const Disk& disk = guest.disks()[layer.disk];
  Bytes reach = std::max(layer.size, disk_size);
  if (layer.is_inner()) {
    reach = inner_reach(guest, layer, guest.find(layer.id.outer())->size);
  } else if (layer.partition) {
    const Sectors end = aligned_reach(*disk.table, *layer.partition, disk_size);
    reach = to_bytes(end - layer.partition->first, disk.table->facts().sector_size);
  }
  Bytes size = content_size(layer);
  std::size_t pv = 0;
  if (const VolumeGroup* group = guest.group_on(layer, pv)) {
    const std::uint64_t extents = lvm::extents_of(group->open, pv, reach.value());
    const std::uint64_t present = group->open.group.pvs[pv].extents;
    return group->bytes(std::max(extents, present) - present);
  }
  // Less than a block at the end is no room.
  if (can_be_resized(layer.content))
    reach = std::max(size, layer.content.filesystem()->usable(reach));
  return reach > size ? reach - size : Bytes(0);
}

}  // namespace jh
