// Making an NTFS volume larger while nobody has it mounted.
#pragma once

#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

struct GrowPlan {
  Geometry before;
  Geometry after;
  bool records_move = false;         // attributes go to other records
  std::uint64_t bytes_to_write = 0;  // an upper bound
  bool changes() const { return after.sectors > before.sectors; }
};

/// Throws refused: more clusters than can be counted.
GrowPlan plan_grow(Filesystem& fs, std::uint64_t sectors);
/// The place must be that large already. The filesystem object speaks of the new size afterwards.
void grow(Filesystem& fs, const GrowPlan& plan);

/// The boot sector and its copy, as the geometry has it now.
void write_boot_sectors(Filesystem& fs);
/// The stream of bad clusters covers the volume. For clusters behind a new end nothing is kept.
void resize_bad_clusters(Filesystem& fs, Room& room, std::uint64_t clusters);

}  // namespace jh::ntfs
