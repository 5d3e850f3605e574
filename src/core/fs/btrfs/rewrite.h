// Rewrite: a tree's items anew in the blocks that it has.
#pragma once

#include <functional>
#include <vector>

#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

struct Item {
  Key key;
  Buffer data;
};

/// A whole tree in memory. Its items may change as long as they do not need more leaves, and at
/// least one is left for each.
class TreeCopy {
 public:
  TreeCopy(const Volume& volume, const Root& root);

  std::vector<Item>& items() { return items_; }
  std::size_t leaves() const;
  /// Whether the items, as they are now, can be spread over the leaves.
  bool fits() const;
  /// One leaf more, at this address, where nothing is; `root`: and a block for a root above it, if
  /// the tree is a single leaf. False: no node has room for it.
  bool add_leaf(std::uint64_t leaf, std::uint64_t root, std::uint64_t generation);
  bool is_single() const { return blocks_.size() == 1; }
  /// The tree's root as it is now.
  Root root() const;
  /// Sorts the items and spreads them over the leaves; each block is written to where `place` puts
  /// it. Throws refused when they do not fit.
  void write(Volume& volume, const std::function<std::uint64_t(std::uint64_t)>& place);

 private:
  struct Block {
    std::uint64_t at = 0;
    Buffer bytes;
    unsigned level() const { return parse_as<BlockHeader>(bytes, 0).level; }
  };
  std::vector<std::size_t> shares() const;
  void spread();
  void fill(Block& leaf, std::size_t first, std::size_t count);
  void set_keys(const std::function<std::uint64_t(std::uint64_t)>& place);

  std::vector<Block> blocks_;  // as a walk meets them
  std::vector<Item> items_;
};

}  // namespace jh::btrfs
