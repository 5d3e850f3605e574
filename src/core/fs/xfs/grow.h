// Grow: the last group becomes longer, new groups follow, every superblock says so.
#pragma once

#include "core/base/progress.h"
#include "core/fs/xfs/group.h"

namespace jh::xfs {

struct Growth {
  std::uint64_t blocks = 0;       // of the filesystem afterwards
  std::uint32_t groups = 0;       // afterwards
  std::uint64_t last_group = 0;   // blocks that the present last group has then
  std::uint64_t free_blocks = 0;  // that are gained
};

/// The most that fits a place of this size. Throws refused where a limit of the format is met.
Growth plan_growth(const Geometry& geometry, std::uint64_t place_size);
/// Bytes that carrying it out writes, at most.
std::uint64_t bytes_to_write(const Geometry& geometry, const Growth& growth);
/// Throws refused when the last group's trees have no block left to become longer with.
void check_last_group(Store& place, const Geometry& geometry, const Growth& growth);

/// Carries it out. New groups are written as unreferenced; the first superblock comes last.
void grow(Store& place, const Geometry& geometry, const Growth& growth, Progress& progress);

}  // namespace jh::xfs
