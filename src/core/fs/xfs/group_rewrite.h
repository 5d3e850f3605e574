// The trees and headers of a group that stays, after what lay behind a new end has moved.
#pragma once

#include "core/fs/xfs/relocate.h"

namespace jh::xfs {

/// Writes the group's free space, inode records, reverse map and reference counts anew where they
/// change: into the blocks that they have, as far as those stay, and into free ones. Memory: all
/// records of one group.
void rewrite_group(Store& place, const Geometry& geometry, const Cut& cut, std::uint32_t number,
                   const Room& room, const Relocated& relocated,
                   const std::vector<SharedExtent>& shared);

}  // namespace jh::xfs
