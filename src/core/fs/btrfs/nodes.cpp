#include "core/fs/btrfs/nodes.h"

#include <fmt/format.h>

namespace jh::btrfs {
namespace {

constexpr Key last_key{UINT64_MAX, UINT8_MAX, UINT64_MAX};

unsigned level_of(ConstByteSpan block) { return parse_as<BlockHeader>(block, 0).level; }

// Keys ascend, from that of the parent to that of its next sibling.
void check_keys(ConstByteSpan block, const Key& low, const Key& high, std::uint64_t address) {
  const bool leaf = level_of(block) == 0;
  Key before{};
  for (std::size_t i = 0; i < item_count(block); ++i) {
    const Key key = leaf ? key_of(leaf_item(block, i).key) : entry_key(block, i);
    if (key < low || key >= high || (i != 0 && key <= before))
      corrupt(fmt::format("the tree block at {} has its keys out of order", address));
    before = key;
  }
}

class Walk {
 public:
  // Of one tree: no more blocks than the device has room for, or one is met twice.
  Walk(const Blocks& blocks, const std::function<bool(const TreeBlock&)>& enter)
      : blocks_(blocks), enter_(enter), budget_(blocks.size() / blocks.node_size() + 1) {}

  void block(std::uint64_t address, std::uint64_t generation, unsigned level, const Key& low,
             const Key& high) {
    if (budget_-- == 0) corrupt("a tree leads into itself");
    const auto kept = blocks_.block(address, generation, level);
    const Buffer& bytes = *kept;
    check_keys(bytes, low, high, address);
    if (level == 0) check_leaf(bytes);
    const auto header = parse_as<BlockHeader>(bytes, 0);
    if (!enter_({address, level, header.owner.value(), bytes}) || level == 0) return;
    const std::size_t count = header.items.value();
    if (count == 0) corrupt(fmt::format("the tree block at {} leads nowhere", address));
    for (std::size_t i = 0; i < count; ++i) {
      const NodeEntry child = node_entry(bytes, i);
      block(child.block.value(), child.generation.value(), level - 1, key_of(child.key),
            i + 1 < count ? entry_key(bytes, i + 1) : high);
    }
  }

 private:
  const Blocks& blocks_;
  const std::function<bool(const TreeBlock&)>& enter_;
  std::uint64_t budget_;
};

class KeyRangeWalk {
 public:
  KeyRangeWalk(const Blocks& blocks, const Key& from, const Key& to,
               const std::function<void(const Key&, ConstByteSpan)>& visit)
      : blocks_(blocks),
        from_(from),
        to_(to == Key{} ? last_key : to),
        visit_(visit),
        budget_(blocks.size() / blocks.node_size() + 1) {}

  void block(std::uint64_t address, std::uint64_t generation, unsigned level) {
    if (budget_-- == 0) corrupt("a tree leads into itself");
    const auto kept = blocks_.block(address, generation, level);
    const Buffer& bytes = *kept;
    const std::size_t count = item_count(bytes);
    if (level == 0) {
      check_leaf(bytes);
      for (std::size_t i = 0; i < count; ++i) {
        const Key key = key_of(leaf_item(bytes, i).key);
        if (key >= from_ && key <= to_) visit_(key, item_data(bytes, i));
      }
      return;
    }
    for (std::size_t i = 0; i < count; ++i) {
      const NodeEntry child = node_entry(bytes, i);
      if (key_of(child.key) > to_) break;
      if (i + 1 < count && entry_key(bytes, i + 1) <= from_) continue;
      block(child.block.value(), child.generation.value(), level - 1);
    }
  }

 private:
  const Blocks& blocks_;
  Key from_;
  Key to_;
  const std::function<void(const Key&, ConstByteSpan)>& visit_;
  std::uint64_t budget_;
};

}  // namespace

Key entry_key(ConstByteSpan block, std::size_t i) { return key_of(node_entry(block, i).key); }

NodeEntry node_entry(ConstByteSpan block, std::size_t i) {
  return parse_as<NodeEntry>(block, sizeof(BlockHeader) + i * sizeof(NodeEntry));
}

LeafItem leaf_item(ConstByteSpan block, std::size_t i) {
  return parse_as<LeafItem>(block, sizeof(BlockHeader) + i * sizeof(LeafItem));
}

ConstByteSpan item_data(ConstByteSpan block, std::size_t i) {
  const LeafItem item = leaf_item(block, i);
  return block.subspan(sizeof(BlockHeader) + item.offset.value(), item.size.value());
}

ByteSpan item_data(ByteSpan block, std::size_t i) {
  const LeafItem item = leaf_item(block, i);
  return block.subspan(sizeof(BlockHeader) + item.offset.value(), item.size.value());
}

std::size_t item_count(ConstByteSpan block) {
  return parse_as<BlockHeader>(block, 0).items.value();
}

void check_leaf(ConstByteSpan bytes) {
  const auto header = parse_as<BlockHeader>(bytes, 0);
  const std::uint64_t items_end = header.items.value() * sizeof(LeafItem);
  std::uint64_t end = bytes.size() - sizeof(BlockHeader);
  for (std::size_t i = 0; i < header.items.value(); ++i) {
    const LeafItem item = leaf_item(bytes, i);
    // The first item's data ends the block, the next one's ends in front of it, and so on.
    if (std::uint64_t{item.offset.value()} + item.size.value() != end ||
        item.offset.value() < items_end)
      corrupt(fmt::format("the tree block at {} has an item outside of its place",
                          header.address.value()));
    end = item.offset.value();
  }
}

void for_each_item(const Blocks& blocks, const Root& root, const Key& from, const Key& to,
                   const std::function<void(const Key&, ConstByteSpan)>& visit) {
  KeyRangeWalk(blocks, from, to, visit).block(root.block, root.generation, root.level);
}

void walk_tree(const Blocks& blocks, const Root& root,
               const std::function<bool(const TreeBlock&)>& enter) {
  Walk(blocks, enter).block(root.block, root.generation, root.level, Key{}, last_key);
}

std::vector<ListedRoot> all_roots(const Blocks& blocks) {
  std::vector<ListedRoot> roots{{object::root_tree, blocks.root_tree()},
                                {object::chunk_tree, blocks.chunk_tree()}};
  for_each_item(blocks, blocks.root_tree(), {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.type != item::root) return;
    if (data.size() < sizeof(RootItem)) corrupt("the item of a tree is too short");
    const auto root = parse_as<RootItem>(data, 0);
    // Only trees of files are deleted bit by bit; others, quotas say, may count no references.
    const bool can_drop = object::is_of_files(key.object) || key.object == object::relocation;
    const bool dropping =
        can_drop && (root.references.value() == 0 || key_of(root.dropped_until) != Key{});
    roots.push_back(
        {key.object, {root.block.value(), root.generation.value(), root.level}, dropping});
  });
  return roots;
}

}  // namespace jh::btrfs
