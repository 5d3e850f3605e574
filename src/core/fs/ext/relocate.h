// Moving whatever lies in some blocks to other blocks: metadata, file content, the lists that lead
// to it, attribute blocks.
#pragma once

#include "core/base/progress.h"
#include "core/fs/ext/allocation.h"
#include "core/fs/ext/grow.h"
#include "core/fs/ext/quota.h"

namespace jh::ext {

struct MoveReport {
  std::uint64_t metadata_blocks = 0;
  std::uint64_t file_blocks = 0;
  std::vector<UsageChange> usage;  // where quota is kept: of files whose lists of extents changed
};

/// Empties the way of the longer table that growing to so many blocks needs, and marks it as in
/// use; nothing where the table is long enough. The filesystem grows as far as its table reaches
/// first, and what must move may go there. Throws refused when there is no room to move something
/// to, unsupported (bad blocks on record).
void clear_table_way(Store& store, std::uint64_t blocks, Progress& progress);

/// Moves everything at or behind the end of `after` in front of it. Inodes of groups that will go
/// must have been renumbered before. Throws refused when there is no room, unsupported (bad
/// blocks).
MoveReport vacate_end(Filesystem& fs, const Geometry& after, Progress& progress);

}  // namespace jh::ext
