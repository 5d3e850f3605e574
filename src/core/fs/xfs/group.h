// Group: the headers of an allocation group, and the trees that hang on them.
#pragma once

#include <array>
#include <functional>
#include <vector>

#include "core/base/findings.h"
#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/tree_walk.h"

namespace jh::xfs {

/// The trees of a group, as a walk sees them.
enum class Tree { by_block, by_size, inodes, free_inodes, reverse_map, shared };
inline constexpr std::array<Tree, 6> all_trees{Tree::by_block,    Tree::by_size,     Tree::inodes,
                                               Tree::free_inodes, Tree::reverse_map, Tree::shared};
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
  using Node = std::function<void(std::uint32_t block, const TreeHeader& header)>;
  /// Walks a tree from its smallest key on. `node`, if given, is called for each of its blocks.
  /// Throws damaged for what is no tree: checksums, owners, sizes, circles, levels.
  void walk(Tree tree, const Leaf& leaf, const Node& node = {}) const;

  /// Free extents, by their beginnings; none overlaps another. Throws damaged.
  std::vector<FreeExtent> free_extents(Tree tree = Tree::by_block) const;
  /// Records of inodes, by their numbers. Throws damaged.
  std::vector<InodeChunk> chunks() const;
  /// The blocks of all its trees and of its free list, ascending. Throws damaged.
  std::vector<std::uint32_t> own_blocks() const;

 private:
  // Gives back the key that has to lead to the block.
  Buffer walk_block(Tree tree, std::uint32_t block, unsigned level, const Leaf& leaf,
                    const Node& node, TreeWalk<std::uint32_t>& so_far) const;

  Store& place_;
  const Geometry& geometry_;
  std::uint32_t number_;
  FreeSpaceHeader free_space_{};
  InodeHeader inodes_{};
};

/// Writes one of a group's headers over what its sector holds, with its checksum.
template <class Header>
void write_header(Store& place, const Geometry& geometry, std::uint32_t group, unsigned sector,
                  const Header& header) {
  const std::uint64_t at = geometry.header_at(group, sector);
  Buffer bytes = read_buffer(place, at, geometry.sector_size());
  put_at(bytes, 0, header);
  set_checksum(bytes, offsetof(Header, checksum));
  place.write(at, bytes);
}

/// How many inodes a record has room for, and which of the 64 it has none for.
unsigned inodes_in(const Geometry& geometry, const InodeChunk& chunk);
std::uint64_t missing_in(const Geometry& geometry, const InodeChunk& chunk);

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
/// The key that leads to a block with so many records (or, above the leaves, keys) in `data`: its
/// first one; of the reverse map the lowest and the highest of what is below.
Buffer tree_key(Tree tree, unsigned level, ConstByteSpan data, std::size_t count);
/// Whether a key is this one.
bool is_tree_key(Tree tree, ConstByteSpan written, ConstByteSpan key);
/// How many records a leaf, and how many keys a node, can hold.
std::size_t most_records(const Geometry& geometry, Tree tree);
std::size_t most_keys(const Geometry& geometry, Tree tree);

}  // namespace jh::xfs
