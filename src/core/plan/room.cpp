#include "core/plan/room.h"

#include <algorithm>

#include "core/lvm/grow.h"
#include "core/plan/content.h"

namespace jh {

Bytes room_in_group(const Guest& guest, const Place& place) {
  const VolumeGroup& group = guest.group_of(place);
  const lvm::Volume& volume = guest.volume_of(place);
  Bytes room{};
  if (volume.plain() && volume.used_by.empty() && volume.visible) {
    room = group.bytes(lvm::room(group.open.group, volume));
  }
  const Bytes size = content_size(place);
  return size < place.size ? room + (place.size - size) : room;
}

Bytes room_of(const Guest& guest, const Place& place, Bytes disk_size) {
  if (place.content.kind == ContentKind::logical_partitions) return Bytes(0);
  if (place.volume) return room_in_group(guest, place);
  const Disk& disk = guest.disks()[place.disk];
  Bytes reach = std::max(place.size, disk_size);
  if (place.partition) {
    const Sectors end = aligned_reach(disk, *place.partition, disk_size);
    reach = to_bytes(end - place.partition->first, disk.table->facts().sector_size);
  }
  Bytes size = content_size(place);
  std::size_t pv = 0;
  if (const VolumeGroup* group = guest.group_on(place, pv)) {
    const std::uint64_t extents = lvm::extents_of(group->open, pv, reach.value());
    const std::uint64_t present = group->open.group.pvs[pv].extents;
    return group->bytes(std::max(extents, present) - present);
  }
  // Less than a block at the end is no room.
  if (can_be_resized(place.content))
    reach = std::max(size, place.content.filesystem->usable(reach));
  return reach > size ? reach - size : Bytes(0);
}

}  // namespace jh
