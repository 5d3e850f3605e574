// Relocate: what lies behind a new end goes in front of it, and all that leads there follows.
#pragma once

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/fs/xfs/fork_write.h"
#include "core/fs/xfs/quota.h"

namespace jh::xfs {

/// What a group that stays has to learn.
struct GroupChange {
  std::vector<ReverseMapping> owners;  // of blocks that others have now
  std::vector<InodeChunk> chunks;      // that were made in it
  Ranges freed;                        // blocks of it that nobody has any more
  Ranges emptied;                      // that those who had them have no more: the log's
};

/// What the files have become.
struct Relocated {
  explicit Relocated(const Geometry& geometry) : renumbered(geometry) {}
  Moves moves;
  Renumbering renumbered;
  std::map<std::uint32_t, GroupChange> groups;
  QuotaChanges more_blocks;
};

/// Moves it all. Groups' trees and superblocks are as they were, afterwards; what is free may have
/// been written to. Memory: 40 bytes for each extent behind the end. Throws refused (no room).
Relocated relocate(Store& place, const Geometry& geometry, const Cut& cut, Room& room,
                   Progress& progress);

}  // namespace jh::xfs
