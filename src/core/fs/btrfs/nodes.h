// Nodes: walking the trees of a filesystem. All of them are built alike.
#pragma once

#include <functional>

#include "core/fs/btrfs/blocks.h"

namespace jh::btrfs {

/// Calls visit for each item with from <= key <= to, in order (`to` of all zeros: to the end). The
/// blocks on the way are checked. Throws damaged.
void for_each_item(const Blocks& blocks, const Root& root, const Key& from, const Key& to,
                   const std::function<void(const Key&, ConstByteSpan)>& visit);

/// Every tree of the filesystem, by its number, also those that are being deleted.
struct ListedRoot {
  std::uint64_t number = 0;
  Root root;
  bool dropping = false;
};
std::vector<ListedRoot> all_roots(const Blocks& blocks);

/// What a walk over the blocks of a tree sees.
struct TreeBlock {
  std::uint64_t block = 0;
  unsigned level = 0;
  std::uint64_t owner = 0;
  ConstByteSpan bytes;
};
/// Calls enter for each block from the root down; it says whether its children are of interest.
/// Each level is checked against its parent: keys in order and within bounds. Throws damaged.
void walk_tree(const Blocks& blocks, const Root& root,
               const std::function<bool(const TreeBlock&)>& enter);

/// Throws damaged where items lie outside of the block or on one another.
void check_leaf(ConstByteSpan bytes);

Key entry_key(ConstByteSpan block, std::size_t i);
NodeEntry node_entry(ConstByteSpan block, std::size_t i);
LeafItem leaf_item(ConstByteSpan block, std::size_t i);
ConstByteSpan item_data(ConstByteSpan block, std::size_t i);
ByteSpan item_data(ByteSpan block, std::size_t i);
/// Of a leaf its items, of a node its children.
std::size_t item_count(ConstByteSpan block);

}  // namespace jh::btrfs
