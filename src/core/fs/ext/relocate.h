// Moving whatever lies in some blocks to other blocks: metadata, file content, the lists that lead
// to it, attribute blocks.
#pragma once

#include "core/fs/ext/allocation.h"
#include "core/fs/ext/grow.h"

namespace jh::ext {

struct MoveReport {
  std::uint64_t metadata_blocks = 0;
  std::uint64_t file_blocks = 0;
};

/// The blocks that a longer descriptor table will need in every existing group that has a copy.
std::vector<BlockRun> table_way(const GrowPlan& plan);

/// Empties the way of the longer table and marks it as in use. Throws refused when there is no room
/// to move something to, unsupported where the way cannot be cleared (bigalloc, bad blocks).
MoveReport clear_table_way(Filesystem& fs, const GrowPlan& plan);

}  // namespace jh::ext
