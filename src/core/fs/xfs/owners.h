// Who owns blocks, and how many share them: records of the reverse map and of reference counts.
#pragma once

#include "core/base/ranges.h"
#include "core/fs/xfs/room.h"

namespace jh::xfs {

/// Puts records in the order of their tree; those of one owner side by side become one.
void sort_and_join(std::vector<ReverseMapping>& all);
/// Adds a record without the blocks that are free now, which split it.
void add_without(const ReverseMapping& mapping, const Ranges& freed,
                 std::vector<ReverseMapping>& out);

/// Blocks that several files share, by the group that they lie in afterwards, in the terms of a
/// group's own tree.
using SharedByGroup = std::map<std::uint32_t, std::vector<SharedExtent>>;
/// Reads the reference counts of what moves. Unfinished copies behind the end are left out: nobody
/// refers to them.
SharedByGroup shared_after(Store& place, const Geometry& geometry, const Cut& cut,
                           const Moves& moves);

}  // namespace jh::xfs
