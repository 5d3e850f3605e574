// Shrink: what lies behind the new end goes in front of it, groups are cut, the last is shortened.
#pragma once

#include "core/base/progress.h"
#include "core/fs/xfs/capacity.h"

namespace jh::xfs {

struct Shrinking {
  Cut cut;
  Needed needed;
  unsigned inodes_percent = 0;  // of the room, that inodes may take afterwards
  std::vector<std::string> notes;
};

/// The way to at most `blocks`. Throws refused: too small (with what would do), or files that were
/// deleted while open wait for the guest.
Shrinking plan_shrinking(Store& place, const Geometry& geometry, std::uint64_t blocks);
/// Bytes that carrying it out writes besides what moves, at most.
std::uint64_t bytes_to_write(const Geometry& geometry, const Shrinking& shrinking);

/// Carries it out; what lies behind the new end is not written. Content goes to free blocks, as
/// unreferenced; the first superblock comes last.
void shrink(Store& place, const Geometry& geometry, const Shrinking& shrinking, Progress& progress);

}  // namespace jh::xfs
