// Group: the headers of an allocation group, and the trees that hang on them.
#pragma once

#include <functional>
#include <vector>

#include "core/base/findings.h"
#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/tree_walk.h"

namespace jh::xfs {

/// The trees of a group, as a walk sees them.
enum class Tree { by_block, by_size, inodes, free_inodes, reverse_map, shared };
const char* tree_name(Tree tree);

class Group {
 public:
  /// Reads and checks the headers. Throws damaged.
  Group(Store& place, const Geometry& geometry, std::uint32_t number);

  std::uint32_t number() const { return number_; }
  std::uint64_t blocks() const { return geometry_.blocks_of(number_); }
  const FreeSpaceHeader& free_space() const { return free_space_; }
  const InodeHeader& inodes() const { return inodes_; }
  /// The blocks on its free list, in their order.
  std::vector<std::uint32_t> free_list() const;

  bool has(Tree tree) const;
  struct TreeRoot {
    std::uint32_t block = 0;  // of the group
    std::uint32_t levels = 0;
  };
  TreeRoot root_of(Tree tree) const;

  /// A leaf's records, as they stand: `data` begins with the first.
  using Leaf = std::function<void(std::uint32_t block, ConstByteSpan data, std::size_t records)>;
  /// Walks a tree from its smallest key on. `node`, if given, is called for each of its blocks,
  /// with its level. Throws damaged for what is no tree: checksums, owners, sizes, circles, levels.
  void walk(Tree tree, const Leaf& leaf,
            const std::function<void(std::uint32_t block, unsigned level)>& node = {}) const;

  /// Free extents, by their beginnings; none overlaps another. Throws damaged.
  std::vector<FreeExtent> free_extents(Tree tree = Tree::by_block) const;

 private:
  void walk_block(Tree tree, std::uint32_t block, unsigned level, const Leaf& leaf,
                  const std::function<void(std::uint32_t, unsigned)>& node,
                  TreeWalk<std::uint32_t>& so_far) const;

  Store& place_;
  const Geometry& geometry_;
  std::uint32_t number_;
  FreeSpaceHeader free_space_{};
  InodeHeader inodes_{};
};

/// What the superblock says of all groups together.
struct Totals {
  std::uint64_t free_blocks = 0;
  std::uint64_t inodes = 0;
  std::uint64_t free_inodes = 0;
  void add(const Group& group);
};

/// Sizes of what a tree keeps.
struct TreeShape {
  std::uint32_t magic = 0;
  std::size_t record = 0;
  std::size_t key = 0;  // in nodes
};
TreeShape shape_of(Tree tree);
/// How many records a leaf, and how many keys a node, can hold.
std::size_t most_records(const Geometry& geometry, Tree tree);
std::size_t most_keys(const Geometry& geometry, Tree tree);

}  // namespace jh::xfs
