#include "core/fs/btrfs/rewrite.h"

#include <algorithm>
#include <map>

namespace jh::btrfs {
namespace {

std::uint64_t size_of(const Item& item) { return sizeof(LeafItem) + item.data.size(); }

}  // namespace

TreeCopy::TreeCopy(const Volume& volume, const Root& root) {
  walk_tree(volume, root, [&](const TreeBlock& block) {
    blocks_.push_back({block.block, Buffer(block.bytes.begin(), block.bytes.end())});
    if (block.level != 0) return true;
    const std::size_t count = parse_as<BlockHeader>(block.bytes, 0).items.value();
    for (std::size_t i = 0; i < count; ++i) {
      const ConstByteSpan data = item_data(block.bytes, i);
      items_.push_back({key_of(leaf_item(block.bytes, i).key), Buffer(data.begin(), data.end())});
    }
    return true;
  });
}

void TreeCopy::write(Volume& volume, const std::function<std::uint64_t(std::uint64_t)>& place) {
  std::sort(items_.begin(), items_.end(),
            [](const Item& a, const Item& b) { return a.key < b.key; });
  spread();
  set_keys(place);
  for (Block& block : blocks_) {
    put_at(block.bytes, offsetof(BlockHeader, address), Le64(place(block.at)));
    volume.write_block(place(block.at), block.bytes, place(block.at) != block.at);
  }
}

// Evenly, by bytes, so that what is too long for one leaf finds room in the next.
void TreeCopy::spread() {
  std::uint64_t left = 0;
  for (const Item& item : items_) left += size_of(item);
  std::uint64_t leaves = static_cast<std::uint64_t>(std::count_if(
      blocks_.begin(), blocks_.end(), [](const Block& block) { return block.level() == 0; }));
  if (leaves > 1 && items_.size() < leaves)
    refuse("too little is left in one of its trees", "btrfs", "choose a larger size");
  std::size_t next = 0;
  for (Block& block : blocks_) {
    if (block.level() != 0) continue;
    const std::uint64_t room = block.bytes.size() - sizeof(BlockHeader);
    const std::uint64_t share = ceil_div(left, leaves);
    const std::size_t first = next;
    std::uint64_t taken = 0;
    while (next < items_.size() && items_.size() - next > leaves - 1) {
      const std::uint64_t size = size_of(items_[next]);
      if (taken + size > room || (taken >= share && taken != 0)) break;
      taken += size;
      ++next;
    }
    fill(block, first, next - first);
    left -= taken;
    --leaves;
  }
  if (next != items_.size())
    refuse("one of its trees has no room left", "btrfs", "choose a larger size");
}

void TreeCopy::fill(Block& leaf, std::size_t first, std::size_t count) {
  std::fill(leaf.bytes.begin() + sizeof(BlockHeader), leaf.bytes.end(), std::uint8_t{0});
  std::size_t end = leaf.bytes.size() - sizeof(BlockHeader);
  for (std::size_t i = 0; i < count; ++i) {
    const Item& item = items_[first + i];
    end -= item.data.size();
    LeafItem made{};
    made.key = disk_key(item.key);
    made.offset = checked_cast<std::uint32_t>(end);
    made.size = checked_cast<std::uint32_t>(item.data.size());
    put_at(leaf.bytes, sizeof(BlockHeader) + i * sizeof(LeafItem), made);
    std::copy(item.data.begin(), item.data.end(),
              leaf.bytes.begin() + static_cast<std::ptrdiff_t>(sizeof(BlockHeader) + end));
  }
  put_at(leaf.bytes, offsetof(BlockHeader, items), Le32(checked_cast<std::uint32_t>(count)));
}

// From the leaves up: a node has the first key of each of its children.
void TreeCopy::set_keys(const std::function<std::uint64_t(std::uint64_t)>& place) {
  std::map<std::uint64_t, Key> first;
  for (unsigned level = 0; level < most_levels; ++level)
    for (Block& block : blocks_) {
      if (block.level() != level) continue;
      const std::size_t count = parse_as<BlockHeader>(block.bytes, 0).items.value();
      for (std::size_t i = 0; level != 0 && i < count; ++i) {
        NodeEntry entry = node_entry(block.bytes, i);
        const std::uint64_t child = entry.block.value();
        entry.key = disk_key(first.at(child));
        entry.block = place(child);
        put_at(block.bytes, sizeof(BlockHeader) + i * sizeof(NodeEntry), entry);
      }
      if (count != 0)
        first[block.at] =
            level == 0 ? key_of(leaf_item(block.bytes, 0).key) : entry_key(block.bytes, 0);
    }
}

}  // namespace jh::btrfs
