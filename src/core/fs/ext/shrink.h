// Making an ext filesystem smaller while nobody has it mounted.
#pragma once

#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/fs/ext/filesystem.h"

namespace jh::ext {

/// The smallest size a filesystem can be brought to, and what stands at it.
struct Floor {
  std::uint64_t blocks = 0;
  std::string reason;
};

/// Reads descriptors, and bitmaps as far as it must know how free blocks lie. For every size from
/// the floor up, plan_shrink() finds a way.
Floor find_floor(Filesystem& fs);

struct ShrinkPlan {
  Geometry before;
  Geometry after;
  std::vector<std::string> notes;
  std::uint64_t blocks_to_move = 0;  // at most
  std::uint32_t inodes_to_move = 0;
  std::uint64_t bytes_to_write = 0;  // an upper bound
  bool changes() const { return after.blocks < before.blocks; }
};

/// Works out the way to at most `blocks`. Throws refused (below the floor, which is named),
/// unsupported (features).
ShrinkPlan plan_shrink(Filesystem& fs, std::uint64_t blocks);

/// Carries it out. Content goes to free blocks, as unreferenced writes; the blocks behind the new
/// end are not written. The filesystem object speaks of the new size afterwards.
void shrink(Filesystem& fs, const ShrinkPlan& plan, Progress& progress);

/// Gives every inode behind number `last` a free number below, and changes all that names it:
/// directories, attributes, the superblock, checksums. Returns how many there were.
std::uint32_t renumber_inodes(Filesystem& fs, std::uint32_t last);

}  // namespace jh::ext
