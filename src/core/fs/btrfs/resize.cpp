#include "core/fs/btrfs/resize.h"

#include <map>

#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/relocate.h"
#include "core/fs/btrfs/rewrite.h"

namespace jh::btrfs {
namespace {

// What of a chunk is in use, counted from its beginning.
Ranges used_in(const Volume& volume, std::uint64_t logical, const Chunk& chunk) {
  Ranges used;
  for_each_extent(volume, logical, logical + chunk.length, [&](const Extent& extent) {
    add_range(used, extent.start - logical, extent.start - logical + extent.length);
  });
  return used;
}

// Changes a leaf's items in place: none gets longer or shorter.
void edit_leaves(Volume& volume, const Root& root,
                 const std::function<bool(const Key&, ByteSpan)>& edit) {
  std::vector<std::pair<std::uint64_t, Buffer>> changed;
  walk_tree(volume, root, [&](const TreeBlock& block) {
    if (block.level != 0) return true;
    Buffer bytes(block.bytes.begin(), block.bytes.end());
    bool any = false;
    for (std::size_t i = 0; i < item_count(bytes); ++i)
      any |= edit(key_of(leaf_item(bytes, i).key), item_data(ByteSpan(bytes), i));
    if (any) changed.emplace_back(block.block, std::move(bytes));
    return true;
  });
  for (auto& [at, bytes] : changed) volume.write_block(at, std::move(bytes));
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
    if (key.type == item::device && data.size() >= sizeof(DeviceItem))
      put_at(data, offsetof(DeviceItem, size), Le64(size));
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

// The device's extents are sorted by where they lie: those that move change their order.
void move_device_extents(Volume& volume, const std::vector<ChunkMove>& moves) {
  const auto root = volume.tree(object::device_tree);
  if (!root) corrupt("it has no tree of the device's extents");
  std::map<std::uint64_t, std::uint64_t> targets;
  for (const ChunkMove& move : moves) targets[move.from] = move.to;
  TreeCopy tree(volume, *root);
  for (Item& one : tree.items())
    if (const auto found = targets.find(one.key.offset);
        one.key.type == item::device_extent && found != targets.end())
      one.key.offset = found->second;
  tree.write(volume, [](std::uint64_t block) { return block; });
}

}  // namespace

std::uint64_t bytes_to_write(const Volume& volume, const Shrinking* shrinking) {
  std::uint64_t blocks = 0;
  const auto count = [&](const TreeBlock&) {
    ++blocks;
    return true;
  };
  const bool all = shrinking != nullptr && !shrinking->emptied.empty();
  if (all) {
    // Every block may have an address that changes.
    for (const ListedRoot& listed : all_roots(volume)) walk_tree(volume, listed.root, count);
  } else {
    walk_tree(volume, volume.chunk_tree(), count);
    if (const auto root = volume.tree(object::device_tree); shrinking != nullptr && root)
      walk_tree(volume, *root, count);
  }
  return blocks * volume.node_size() * 2 + 2 * superblock_places.size() * sizeof(Superblock);
}

void grow(Volume& volume, std::uint64_t size) { set_end(volume, size); }

void shrink(Volume& volume, const Shrinking& plan, Progress& progress) {
  if (!plan.emptied.empty()) {
    empty_chunks(volume, plan, progress);
    volume.read_again();
  }
  progress.begin("moving chunks", plan.to_move);
  std::map<std::uint64_t, Ranges> used;
  for (const ChunkMove& move : plan.copies)
    used[move.chunk] = used_in(volume, move.chunk, volume.chunks().at(move.chunk));
  std::uint64_t copied = 0;
  for (const ChunkMove& move : plan.copies)
    for (const auto& [from, to] : used[move.chunk])
      copy_unreferenced(volume.place(), move.from + from, move.to + from, to - from, copied,
                        progress);
  for (const ChunkMove& move : plan.copies) volume.move_copy(move.chunk, move.copy, move.to);
  if (!plan.copies.empty()) move_device_extents(volume, plan.copies);
  set_end(volume, plan.size);
  progress.end();
}

Ranges device_item_places(const Volume& volume) {
  Ranges own;
  walk_tree(volume, volume.chunk_tree(), [&](const TreeBlock& block) {
    bool wanted = false;
    for (std::size_t i = 0; block.level == 0 && i < item_count(block.bytes); ++i)
      wanted = wanted || leaf_item(block.bytes, i).key.type == item::device;
    if (wanted)
      for (const std::uint64_t at : volume.places(block.block, volume.node_size()))
        add_range(own, at, at + volume.node_size());
    return true;
  });
  return own;
}

}  // namespace jh::btrfs
