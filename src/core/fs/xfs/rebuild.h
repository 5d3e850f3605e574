// Rebuild: a group's free space trees written anew, in the blocks that they have.
#pragma once

#include "core/fs/xfs/group.h"

namespace jh::xfs {

/// A tree of free extents, as it will be. Every level keeps its blocks; where all of them are full,
/// blocks from the group's free list are added, which its reverse map has under the same owner.
class FreeTree {
 public:
  FreeTree(Store& place, const Geometry& geometry, const Group& group, Tree tree);

  /// Makes room for so many records. `ready`: the free list; what is taken is taken from its front.
  /// False: it is too short.
  bool make_room(std::size_t records, std::vector<std::uint32_t>& ready);
  std::uint32_t root() const { return levels_.back().front(); }
  std::uint32_t height() const { return static_cast<std::uint32_t>(levels_.size()); }
  std::size_t added() const { return added_; }

  /// Writes all of it; `records` in the tree's order, as many as room was made for.
  void write(const std::vector<FreeExtent>& records);

 private:
  void write_block(std::size_t level, std::size_t index, ConstByteSpan data, std::size_t records);

  Store& place_;
  const Geometry& geometry_;
  const Group& group_;
  Tree tree_;
  std::vector<std::vector<std::uint32_t>> levels_;  // leaves first, each from left to right
  std::size_t added_ = 0;
};

/// A block of a group's tree, with its checksum. Of `header` level, records, neighbours and log
/// sequence count; what says whose block it is, and where, is filled in.
Buffer tree_block(const Geometry& geometry, std::uint32_t group, Tree tree, std::uint64_t at,
                  TreeHeader header, ConstByteSpan data);

/// In the order of the tree by size.
void sort_by_size(std::vector<FreeExtent>& extents);

}  // namespace jh::xfs
