#include "core/fs/btrfs/rewrite.h"

#include <algorithm>
#include <map>
#include <numeric>

namespace jh::btrfs {
namespace {

std::uint64_t size_of(const Item& item) { return sizeof(LeafItem) + item.data.size(); }

}  // namespace

TreeCopy::TreeCopy(const Volume& volume, const Root& root) {
  walk_tree(volume, root, [&](const TreeBlock& block) {
    blocks_.push_back({block.block, Buffer(block.bytes.begin(), block.bytes.end())});
    if (block.level != 0) return true;
    const std::size_t count = item_count(block.bytes);
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

std::size_t TreeCopy::leaves() const {
  return static_cast<std::size_t>(std::count_if(
      blocks_.begin(), blocks_.end(), [](const Block& block) { return block.level() == 0; }));
}

// How many items each leaf gets: evenly, by bytes, so that what is too long for one leaf finds room
// in the next. Fewer in all than there are: they do not fit.
std::vector<std::size_t> TreeCopy::shares() const {
  std::uint64_t left = 0;
  for (const Item& item : items_) left += size_of(item);
  const std::uint64_t room = blocks_.front().bytes.size() - sizeof(BlockHeader);
  std::vector<std::size_t> shares;
  std::size_t next = 0;
  for (std::uint64_t leaves = this->leaves(); leaves != 0; --leaves) {
    const std::uint64_t share = ceil_div(left, leaves);
    const std::size_t first = next;
    std::uint64_t taken = 0;
    while (next < items_.size() && items_.size() - next > leaves - 1) {
      const std::uint64_t size = size_of(items_[next]);
      if (taken + size > room || (taken >= share && taken != 0)) break;
      taken += size;
      ++next;
    }
    shares.push_back(next - first);
    left -= taken;
  }
  return shares;
}

bool TreeCopy::fits() const {
  const auto counts = shares();
  const std::size_t placed = std::accumulate(counts.begin(), counts.end(), std::size_t{0});
  // An empty leaf is only where nothing else is.
  return placed == items_.size() &&
         (counts.size() == 1 || std::find(counts.begin(), counts.end(), 0U) == counts.end());
}

Root TreeCopy::root() const {
  const auto header = parse_as<BlockHeader>(blocks_.front().bytes, 0);
  return {blocks_.front().at, header.generation.value(), header.level};
}

bool TreeCopy::add_leaf(std::uint64_t leaf, std::uint64_t root, std::uint64_t generation) {
  const auto made = [&](std::uint64_t at, std::uint8_t level) {
    Block block{at, Buffer(blocks_.front().bytes.size())};
    auto header = parse_as<BlockHeader>(blocks_.front().bytes, 0);
    header.address = at;
    header.generation = generation;
    header.level = level;
    header.items = 0;
    put_at(block.bytes, 0, header);
    return block;
  };
  const auto lead_to = [&](Block& node, std::uint64_t child, std::uint64_t child_generation) {
    auto header = parse_as<BlockHeader>(node.bytes, 0);
    NodeEntry entry{};
    entry.block = child;
    entry.generation = child_generation;
    put_at(node.bytes, sizeof(BlockHeader) + header.items.value() * sizeof(NodeEntry), entry);
    header.items = header.items.value() + 1;
    put_at(node.bytes, 0, header);
  };
  if (is_single()) {
    Block top = made(root, 1);
    lead_to(top, blocks_.front().at, this->root().generation);
    blocks_.insert(blocks_.begin(), std::move(top));
  }
  // The last node above the leaves: the new leaf comes last.
  const auto node = std::find_if(blocks_.rbegin(), blocks_.rend(),
                                 [](const Block& block) { return block.level() == 1; });
  const auto count = item_count(node->bytes);
  if ((count + 1) * sizeof(NodeEntry) > node->bytes.size() - sizeof(BlockHeader)) return false;
  lead_to(*node, leaf, generation);
  blocks_.push_back(made(leaf, 0));
  return true;
}

void TreeCopy::spread() {
  if (!fits()) refuse("one of its trees has no room left", "btrfs", "choose a larger size");
  const auto counts = shares();
  std::size_t next = 0;
  std::size_t i = 0;
  for (Block& block : blocks_)
    if (block.level() == 0) {
      fill(block, next, counts[i]);
      next += counts[i++];
    }
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
      const std::size_t count = item_count(block.bytes);
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
