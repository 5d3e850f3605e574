#include "core/fs/btrfs/resize.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

// Where the guest's allocator begins a copy of a chunk.
constexpr std::uint64_t stripe_unit = 64 << 10;

// What of a chunk is in use, counted from its beginning.
Ranges used_in(const Volume& volume, std::uint64_t logical, const Chunk& chunk) {
  Ranges used;
  for_each_extent(volume, logical, logical + chunk.length, [&](const Extent& extent) {
    add_range(used, extent.start - logical, extent.start - logical + extent.length);
  });
  return used;
}

std::uint64_t sum_of_ranges(const Ranges& ranges) {
  std::uint64_t sum = 0;
  for (const auto& [from, to] : ranges) sum += to - from;
  return sum;
}

// A copy at `to` would have something in use where a superblock lies.
bool meets_superblock(const Ranges& used, std::uint64_t to) {
  return std::any_of(superblock_places.begin(), superblock_places.end(), [&](std::uint64_t at) {
    const std::uint64_t end = at + superblock_room;
    return end > to && overlaps(used, at > to ? at - to : 0, end - to);
  });
}

class Planner {
 public:
  explicit Planner(const Volume& volume) : volume_(volume) {}

  std::optional<Shrinking> plan(std::uint64_t size) {
    Shrinking plan;
    plan.size = size;
    Ranges room;
    add_range(room, first_usable, size);
    for (const auto& [logical, chunk] : volume_.chunks())
      for (std::size_t i = 0; i < chunk.copies.size(); ++i) {
        const std::uint64_t from = chunk.copies[i];
        if (from + chunk.length <= size)
          remove_range(room, from, from + chunk.length);
        else
          plan.moves.push_back({logical, i, from, 0, chunk.length, 0});
      }
    // The largest first, each where it leaves the least over.
    std::stable_sort(plan.moves.begin(), plan.moves.end(),
                     [](const ChunkMove& a, const ChunkMove& b) { return a.length > b.length; });
    for (ChunkMove& move : plan.moves) {
      const Ranges& used = used_of(move.chunk);
      const auto to = place(room, move.length, used);
      if (!to) return std::nullopt;
      move.to = *to;
      move.used = sum_of_ranges(used);
      plan.to_move += move.used;
      remove_range(room, *to, *to + move.length);
    }
    return plan;
  }

  const Ranges& used_of(std::uint64_t logical) {
    const auto found = used_.find(logical);
    if (found != used_.end()) return found->second;
    return used_[logical] = used_in(volume_, logical, volume_.chunks().at(logical));
  }

 private:
  static std::optional<std::uint64_t> place(const Ranges& room, std::uint64_t length,
                                            const Ranges& used) {
    std::optional<std::uint64_t> best;
    std::uint64_t least = UINT64_MAX;
    for (const auto& [from, end] : room) {
      std::uint64_t at = round_up(from, stripe_unit);
      // Past a superblock that would lie in what is used, where that is still within.
      for (const std::uint64_t super : superblock_places)
        if (meets_superblock(used, at) && super + superblock_room > at)
          at = std::max(at, super + superblock_room);
      if (at >= end || end - at < length || meets_superblock(used, at)) continue;
      if (end - from < least) {
        least = end - from;
        best = at;
      }
    }
    return best;
  }

  const Volume& volume_;
  std::map<std::uint64_t, Ranges> used_;
};

// Changes a leaf's items in place: none gets longer or shorter.
void edit_leaves(Volume& volume, const Root& root,
                 const std::function<bool(const Key&, ByteSpan)>& edit) {
  std::vector<std::pair<std::uint64_t, Buffer>> changed;
  walk_tree(volume, root, [&](const TreeBlock& block) {
    if (block.level != 0) return true;
    Buffer bytes(block.bytes.begin(), block.bytes.end());
    bool any = false;
    const std::size_t count = parse_as<BlockHeader>(bytes, 0).items.value();
    for (std::size_t i = 0; i < count; ++i) {
      const LeafItem item = leaf_item(bytes, i);
      any |= edit(
          key_of(item.key),
          ByteSpan(bytes).subspan(sizeof(BlockHeader) + item.offset.value(), item.size.value()));
    }
    if (any) changed.emplace_back(block.block, std::move(bytes));
    return true;
  });
  for (auto& [at, bytes] : changed) volume.write_block(at, std::move(bytes));
}

void set_device_size(const Key& key, ByteSpan data, std::uint64_t size) {
  if (key.type != item::device || data.size() < sizeof(DeviceItem)) return;
  put_at(data, offsetof(DeviceItem, size), Le64(size));
}

// The stripes of a chunk's item, behind its head, as they are now.
void set_stripes(const Volume& volume, std::uint64_t logical, ByteSpan stripes) {
  const Chunk& chunk = volume.chunks().at(logical);
  for (std::size_t i = 0; i < chunk.copies.size(); ++i)
    put_at(stripes, i * sizeof(Stripe) + offsetof(Stripe, offset), Le64(chunk.copies[i]));
}

void set_end(Volume& volume, std::uint64_t size) {
  edit_leaves(volume, volume.chunk_tree(), [&](const Key& key, ByteSpan data) {
    const Buffer before(data.begin(), data.end());
    set_device_size(key, data, size);
    if (key.type == item::chunk) set_stripes(volume, key.offset, data.subspan(sizeof(ChunkItem)));
    return !std::equal(before.begin(), before.end(), data.begin());
  });
  Superblock super = volume.super();
  super.size = size;
  super.device.size = size;
  ByteSpan all = ByteSpan(super.system_chunks).first(super.system_chunks_size.value());
  while (!all.empty()) {
    const Key key = key_of(parse_as<DiskKey>(all, 0));
    const auto head = parse_as<ChunkItem>(all, sizeof(DiskKey));
    const std::size_t front = sizeof(DiskKey) + sizeof(ChunkItem);
    set_stripes(volume, key.offset, all.subspan(front));
    all = all.subspan(front + head.stripes.value() * sizeof(Stripe));
  }
  volume.write_super(super);
}

// The device's extents are sorted by where they lie: those that move change their order. All have
// one length, so each leaf keeps the number of its items, and the tree its blocks.
class DeviceTree {
 public:
  explicit DeviceTree(Volume& volume) : volume_(volume) {
    const auto root = volume.tree(object::device_tree);
    if (!root) wrong("it has no tree of the device's extents");
    walk_tree(volume, *root, [&](const TreeBlock& block) {
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

  void move(const std::vector<ChunkMove>& moves) {
    std::map<std::uint64_t, std::uint64_t> targets;
    for (const ChunkMove& move : moves) targets[move.from] = move.to;
    for (auto& [key, data] : items_)
      if (const auto found = targets.find(key.offset);
          key.type == item::device_extent && found != targets.end())
        key.offset = found->second;
    std::sort(items_.begin(), items_.end(),
              [](const auto& a, const auto& b) { return a.first < b.first; });
  }

  void write() {
    std::size_t next = 0;
    for (Block& block : blocks_)
      if (parse_as<BlockHeader>(block.bytes, 0).level == 0) fill(block, next);
    // From the leaves up: a node has the first key of each of its children.
    std::map<std::uint64_t, Key> first;
    for (unsigned level = 0; level < most_levels; ++level)
      for (Block& block : blocks_) {
        const auto header = parse_as<BlockHeader>(block.bytes, 0);
        if (header.level != level || header.items.value() == 0) continue;
        for (std::size_t i = 0; level != 0 && i < header.items.value(); ++i) {
          NodeEntry entry = node_entry(block.bytes, i);
          entry.key = disk_key(first.at(entry.block.value()));
          put_at(block.bytes, sizeof(BlockHeader) + i * sizeof(NodeEntry), entry);
        }
        first[block.at] =
            level == 0 ? key_of(leaf_item(block.bytes, 0).key) : entry_key(block.bytes, 0);
      }
    for (const Block& block : blocks_) volume_.write_block(block.at, block.bytes);
  }

 private:
  struct Block {
    std::uint64_t at = 0;
    Buffer bytes;
  };

  void fill(Block& block, std::size_t& next) {
    const std::size_t count = parse_as<BlockHeader>(block.bytes, 0).items.value();
    const std::size_t room = block.bytes.size() - sizeof(BlockHeader);
    std::fill(block.bytes.begin() + sizeof(BlockHeader), block.bytes.end(), std::uint8_t{0});
    std::size_t end = room;
    for (std::size_t i = 0; i < count; ++i, ++next) {
      const auto& [key, data] = items_.at(next);
      if (data.size() + (i + 1) * sizeof(LeafItem) > end)
        wrong("the device's extents do not fit in their tree");
      end -= data.size();
      LeafItem item{};
      item.key = disk_key(key);
      item.offset = checked_cast<std::uint32_t>(end);
      item.size = checked_cast<std::uint32_t>(data.size());
      put_at(block.bytes, sizeof(BlockHeader) + i * sizeof(LeafItem), item);
      std::copy(data.begin(), data.end(),
                block.bytes.begin() + static_cast<std::ptrdiff_t>(sizeof(BlockHeader) + end));
    }
  }

  Volume& volume_;
  std::vector<Block> blocks_;
  std::vector<std::pair<Key, Buffer>> items_;
};

void copy(Volume& volume, const ChunkMove& move, const Ranges& used, Progress& progress) {
  constexpr std::uint64_t piece = 1 << 20;
  for (const auto& [from, to] : used)
    for (std::uint64_t at = from; at < to;) {
      const std::uint64_t step = std::min(piece, to - at);
      const Buffer bytes = read_buffer(volume.place(), move.from + at, step);
      volume.place().write_unreferenced(move.to + at, bytes);
      progress.advance(step);
      at += step;
    }
}

}  // namespace

std::optional<Shrinking> plan_shrinking(const Volume& volume, std::uint64_t size) {
  return Planner(volume).plan(size);
}

std::uint64_t least_size(const Volume& volume) {
  Planner planner(volume);
  std::uint64_t low = first_usable;
  for (const auto& [logical, chunk] : volume.chunks()) low += chunk.length * chunk.copies.size();
  std::uint64_t high = volume.size();
  low = std::min(round_up(low, stripe_unit), high);
  while (low < high) {
    std::uint64_t middle = round_down(low + (high - low) / 2, stripe_unit);
    if (middle < low) middle = low;
    if (planner.plan(middle))
      high = middle;
    else
      low = middle + stripe_unit;
  }
  return high;
}

std::uint64_t bytes_to_write(const Volume& volume, bool moves) {
  std::uint64_t blocks = 0;
  const auto count = [&](const TreeBlock&) {
    ++blocks;
    return true;
  };
  walk_tree(volume, volume.chunk_tree(), count);
  if (const auto root = volume.tree(object::device_tree); moves && root)
    walk_tree(volume, *root, count);
  return blocks * volume.node_size() * 2 + superblock_places.size() * sizeof(Superblock);
}

void grow(Volume& volume, std::uint64_t size) { set_end(volume, size); }

void shrink(Volume& volume, const Shrinking& plan, Progress& progress) {
  progress.begin("moving chunks", plan.to_move);
  Planner planner(volume);
  std::map<std::uint64_t, Ranges> used;
  for (const ChunkMove& move : plan.moves) used[move.chunk] = planner.used_of(move.chunk);
  for (const ChunkMove& move : plan.moves) copy(volume, move, used[move.chunk], progress);
  DeviceTree extents(volume);
  for (const ChunkMove& move : plan.moves) volume.move_copy(move.chunk, move.copy, move.to);
  if (!plan.moves.empty()) {
    extents.move(plan.moves);
    extents.write();
  }
  set_end(volume, plan.size);
  progress.end();
}

Ranges own_tables(const Volume& volume, bool only_device_item) {
  Ranges own;
  const auto add = [&](std::uint64_t logical) {
    const auto [start, chunk] = volume.chunk_of(logical, volume.node_size());
    for (const std::uint64_t copy : chunk->copies) {
      const std::uint64_t at = copy + (logical - start);
      add_range(own, at, at + volume.node_size());
    }
  };
  walk_tree(volume, volume.chunk_tree(), [&](const TreeBlock& block) {
    bool wanted = !only_device_item;
    if (block.level == 0)
      for (std::size_t i = 0; i < parse_as<BlockHeader>(block.bytes, 0).items.value(); ++i)
        wanted = wanted || leaf_item(block.bytes, i).key.type == item::device;
    if (wanted) add(block.block);
    return true;
  });
  if (const auto root = volume.tree(object::device_tree); root && !only_device_item)
    walk_tree(volume, *root, [&](const TreeBlock& block) {
      add(block.block);
      return true;
    });
  return own;
}

}  // namespace jh::btrfs
