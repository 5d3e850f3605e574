// Making an NTFS volume smaller while nobody has it mounted.
#pragma once

#include <string>

#include "core/base/progress.h"
#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

/// The smallest size it can be brought to, and what stands at it.
struct Floor {
  std::uint64_t clusters = 0;
  std::string reason;
};

/// Reads the bitmap; of a small $MFT also all records, to rehearse the way there. With a large one
/// the floor has a margin instead.
Floor find_floor(Filesystem& fs);

struct ShrinkPlan {
  Geometry before;
  Geometry after;
  std::uint64_t clusters_to_move = 0;
  std::uint64_t records_to_take = 0;  // further file records, to list what is in more pieces
  std::uint64_t bytes_to_write = 0;   // an upper bound, what moves not counted
  bool changes() const { return after.sectors < before.sectors; }
};

/// Works out the way to so many sectors. Throws refused (below the floor, which is named).
ShrinkPlan plan_shrink(Filesystem& fs, std::uint64_t sectors);

/// The same without working out whether there is a way: for what has been planned.
ShrinkPlan planned_shrink(const Filesystem& fs, std::uint64_t sectors);

/// Carries it out. Content goes to free clusters, as unreferenced writes; what is behind the new
/// end is not written. The filesystem object speaks of the new size afterwards. Throws refused when
/// there is no room after all.
void shrink(Filesystem& fs, const ShrinkPlan& plan, Progress& progress);

}  // namespace jh::ntfs
