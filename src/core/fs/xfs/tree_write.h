// A tree of a group, written from its records.
#pragma once

#include "core/fs/xfs/group.h"

namespace jh::xfs {

/// How many blocks a tree of so many records has, when its blocks are as full as can be.
std::size_t blocks_of_tree(const Geometry& geometry, Tree tree, std::size_t records);

/// The same when no block of it is more than half full.
std::size_t most_blocks_of_tree(const Geometry& geometry, Tree tree, std::size_t records);

/// How many levels it has when its blocks are full.
unsigned levels_of_tree(const Geometry& geometry, Tree tree, std::size_t records);

/// Writes a tree into exactly those blocks: `records` one behind the other, in the tree's order,
/// spread evenly. The leaves come first.
Group::TreeRoot write_group_tree(Store& place, const Geometry& geometry, std::uint32_t group,
                                 Tree tree, const std::vector<std::uint32_t>& blocks,
                                 ConstByteSpan records);

}  // namespace jh::xfs
