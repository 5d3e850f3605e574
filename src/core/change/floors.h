// Floors: how small a layer could be brought, and what stands there.
#pragma once

#include <optional>
#include <string>

#include "core/guest/guest.h"

namespace jh {

struct LayerFloor {
  Bytes size;          // of the place
  std::string reason;  // "its blocks in use", "partition 2 stands behind it"
};

/// The smallest that a place can be brought to with what is in it, everything above it shrunk as
/// well. A place whose content juneheath does not make smaller has its present size. Reads what it
/// must to know (bitmaps of filesystems).
LayerFloor floor_of(const Guest& guest, const Place& place);
/// The smallest that the disk can be brought to when nothing on it moves to another beginning.
LayerFloor floor_of_disk(const Guest& guest, std::size_t disk);

/// In extents, whole stripes.
std::uint64_t floor_of_volume(const Guest& guest, const Place& volume);
/// Why its content cannot be made smaller; nothing: it can.
std::optional<Error> no_shrinking(const Place& place);

/// Where the partition would end with a place of this size, kept aligned if it is.
Sectors aligned_end(const Disk& disk, const Partition& partition, Bytes place_size);
/// The smallest disk on which partitions can end there.
Bytes disk_for(const Disk& disk, Sectors end);

}  // namespace jh
