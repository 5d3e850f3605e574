#include "core/fs/btrfs/extents.h"

#include <fmt/format.h>

#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

Root tree_that_must_be(const Volume& volume, std::uint64_t number, const char* name) {
  const auto root = volume.tree(number);
  if (!root) corrupt(fmt::format("it has no {}", name));
  return *root;
}

void leave_superblocks(Ranges& ranges) {
  remove_range(ranges, 0, first_usable);
  for (const std::uint64_t at : superblock_places) remove_range(ranges, at, at + superblock_room);
}

}  // namespace

void leave_superblocks(Ranges& room, std::uint64_t logical, const Chunk& chunk) {
  for (const std::uint64_t copy : chunk.copies)
    for (const std::uint64_t super : superblock_places) {
      if (super + superblock_room <= copy || super >= copy + chunk.length) continue;
      const std::uint64_t from = super > copy ? super - copy : 0;
      remove_range(room, logical + from,
                   logical + std::min(super + superblock_room - copy, chunk.length));
    }
}

void for_each_extent(const Volume& volume, std::uint64_t from, std::uint64_t to,
                     const std::function<void(const Extent&)>& visit) {
  if (from >= to) return;
  std::uint64_t reached = 0;
  const std::uint64_t node = volume.node_size();
  for_each_item(
      volume, tree_that_must_be(volume, object::extent_tree, "tree of extents"), {from, 0, 0},
      {to - 1, UINT8_MAX, UINT64_MAX}, [&](const Key& key, ConstByteSpan data) {
        if (key.type != item::extent && key.type != item::metadata) return;
        if (data.size() < sizeof(ExtentItem)) corrupt("the item of an extent is too short");
        const auto head = parse_as<ExtentItem>(data, 0);
        Extent extent;
        extent.start = key.object;
        extent.length = key.type == item::metadata ? node : key.offset;
        extent.tree_block = (head.flags.value() & extent_flag::tree_block) != 0;
        extent.references = head.references.value();
        const bool sound = extent.length != 0 && extent.length % volume.sector_size() == 0 &&
                           extent.start % volume.sector_size() == 0 && extent.start >= reached &&
                           (!extent.tree_block || extent.length == node);
        if (!sound) corrupt(fmt::format("the extent at {} is impossible", extent.start));
        volume.chunk_of(extent.start, extent.length);
        reached = extent.start + extent.length;
        visit(extent);
      });
}

void for_each_block_group(const Volume& volume,
                          const std::function<void(const BlockGroup&)>& visit) {
  const std::uint64_t number =
      volume.has(ro_compatible::block_group_tree) ? object::block_group_tree : object::extent_tree;
  for_each_item(volume, tree_that_must_be(volume, number, "tree of block groups"), {}, {},
                [&](const Key& key, ConstByteSpan data) {
                  if (key.type != item::block_group) return;
                  if (data.size() < sizeof(BlockGroupItem))
                    corrupt("the item of a block group is too short");
                  const auto group = parse_as<BlockGroupItem>(data, 0);
                  visit({key.object, key.offset, group.used.value(), group.flags.value()});
                });
}

Ranges free_on_device(const Volume& volume) {
  Ranges ranges;
  add_range(ranges, 0, volume.size());
  for_each_extent(volume, 0, UINT64_MAX, [&](const Extent& extent) {
    for (const std::uint64_t at : volume.places(extent.start, extent.length))
      remove_range(ranges, at, at + extent.length);
  });
  leave_superblocks(ranges);
  return ranges;
}

}  // namespace jh::btrfs
