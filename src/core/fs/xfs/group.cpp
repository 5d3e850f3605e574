#include "core/fs/xfs/group.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "core/base/words.h"

namespace jh::xfs {
namespace {

template <class Header>
Header read_header(Store& place, const Geometry& geometry, std::uint32_t group, unsigned sector,
                   std::uint32_t magic, const char* name) {
  const Buffer bytes =
      read_buffer(place, geometry.header_at(group, sector), geometry.sector_size());
  const auto header = parse_as<Header>(bytes, 0);
  if (header.magic.value() != magic)
    corrupt(fmt::format("group {} has no header of its {}", group, name));
  if (!checksum_matches(bytes, offsetof(Header, checksum)))
    corrupt(fmt::format("group {}: the checksum of the header of its {} is wrong", group, name));
  if (header.uuid != geometry.metadata_uuid())
    corrupt(fmt::format("group {}: the header of its {} is of another filesystem", group, name));
  if constexpr (requires { header.version; }) {
    if (header.version.value() != 1)
      corrupt(fmt::format("group {}: the header of its {} is of another version", group, name));
  }
  if (header.group.value() != group)
    corrupt(fmt::format("group {}: the header of its {} is of another group", group, name));
  return header;
}

}  // namespace

const char* tree_name(Tree tree) {
  return word_of<Tree::shared>(tree, "free space by place", "free space by size", "inodes",
                               "free inodes", "reverse map", "reference counts");
}

TreeShape shape_of(Tree tree) {
  switch (tree) {
    case Tree::by_block:
      return {tree_magic::by_block, sizeof(FreeExtent), sizeof(FreeExtent)};
    case Tree::by_size:
      return {tree_magic::by_size, sizeof(FreeExtent), sizeof(FreeExtent)};
    case Tree::inodes:
      return {tree_magic::inodes, sizeof(InodeChunk), 4};
    case Tree::free_inodes:
      return {tree_magic::free_inodes, sizeof(InodeChunk), 4};
    case Tree::reverse_map:
      return {tree_magic::reverse_map, sizeof(ReverseMapping), 40};
    case Tree::shared:
      break;
  }
  return {tree_magic::shared, sizeof(SharedExtent), 4};
}

std::size_t most_records(const Geometry& geometry, Tree tree) {
  return (geometry.block_size() - sizeof(TreeHeader)) / shape_of(tree).record;
}

std::size_t most_keys(const Geometry& geometry, Tree tree) {
  return (geometry.block_size() - sizeof(TreeHeader)) / (shape_of(tree).key + 4);
}

Group::Group(Store& place, const Geometry& geometry, std::uint32_t number)
    : place_(place), geometry_(geometry), number_(number) {
  free_space_ =
      read_header<FreeSpaceHeader>(place, geometry, number, 1, free_space_magic, "free space");
  inodes_ = read_header<InodeHeader>(place, geometry, number, 2, inode_header_magic, "inodes");
  for (const std::uint64_t said :
       {std::uint64_t{free_space_.blocks.value()}, std::uint64_t{inodes_.blocks.value()}})
    if (said != blocks()) corrupt(fmt::format("group {} has another size in its headers", number));
}

bool Group::has(Tree tree) const {
  switch (tree) {
    case Tree::free_inodes:
      return geometry_.has(ro_compatible::free_inode_tree);
    case Tree::reverse_map:
      return geometry_.has(ro_compatible::reverse_map);
    case Tree::shared:
      return geometry_.has(ro_compatible::shared_extents);
    default:
      return true;
  }
}

Group::TreeRoot Group::root_of(Tree tree) const {
  const auto at = [&](std::size_t number) -> TreeRoot {
    return {free_space_.roots[number].value(), free_space_.levels[number].value()};
  };
  if (tree == Tree::by_block) return at(0);
  if (tree == Tree::by_size) return at(1);
  if (tree == Tree::reverse_map) return at(2);
  if (tree == Tree::inodes) return {inodes_.root.value(), inodes_.level.value()};
  if (tree == Tree::free_inodes) return {inodes_.free_root.value(), inodes_.free_level.value()};
  return {free_space_.shared_root.value(), free_space_.shared_level.value()};
}

std::vector<std::uint32_t> Group::free_list() const {
  const Buffer bytes =
      read_buffer(place_, geometry_.header_at(number_, 3), geometry_.sector_size());
  const auto header = parse_as<FreeListHeader>(bytes, 0);
  if (header.magic.value() != free_list_magic || header.group.value() != number_ ||
      header.uuid != geometry_.metadata_uuid() ||
      !checksum_matches(bytes, offsetof(FreeListHeader, checksum)))
    corrupt(fmt::format("group {}: its free list is damaged", number_));
  const std::size_t most = (geometry_.sector_size() - sizeof(FreeListHeader)) / 4;
  const std::uint32_t count = free_space_.list_count.value();
  const std::uint32_t first = free_space_.list_first.value();
  const std::uint32_t last = free_space_.list_last.value();
  if (count > most || first >= most || last >= most ||
      (count != 0 && (first + count - 1) % most != last))
    corrupt(fmt::format("group {}: the ends of its free list are wrong", number_));
  std::vector<std::uint32_t> blocks;
  for (std::uint32_t i = 0; i < count; ++i) {
    const std::size_t slot = (first + i) % most;
    const auto block = parse_as<Be32>(bytes, sizeof(FreeListHeader) + 4 * slot).value();
    if (block >= this->blocks())
      corrupt(fmt::format("group {}: its free list leads outside of it", number_));
    blocks.push_back(block);
  }
  return blocks;
}

void Group::walk(Tree tree, const Leaf& leaf, const Node& node) const {
  constexpr std::uint32_t most_levels = 16;
  const auto [root, height] = root_of(tree);
  if (height == 0 || height > most_levels)
    corrupt(
        fmt::format("group {}: the tree of {} has {} levels", number_, tree_name(tree), height));
  // No tree has more blocks than its group.
  TreeWalk<std::uint32_t> so_far(blocks(), height);
  walk_block(tree, root, height - 1, leaf, node, so_far);
  if (!so_far.is_whole())
    corrupt(fmt::format("group {}, tree of {}: a last block has another on its right", number_,
                        tree_name(tree)));
}

Buffer Group::walk_block(Tree tree, std::uint32_t block, unsigned level, const Leaf& leaf,
                         const Node& node, TreeWalk<std::uint32_t>& so_far) const {
  const auto fail = [&](const char* what) {
    corrupt(
        fmt::format("group {}, tree of {}, block {}: {}", number_, tree_name(tree), block, what));
  };
  if (block >= blocks() || block < geometry_.header_blocks()) fail("it lies outside of the group");
  if (!so_far.enter()) fail("the tree leads in a circle");
  const Buffer bytes =
      read_buffer(place_, geometry_.block_at(number_, block), geometry_.block_size());
  const auto header = parse_as<TreeHeader>(bytes, 0);
  const TreeShape shape = shape_of(tree);
  if (header.magic.value() != shape.magic) fail("it is no block of this tree");
  if (!checksum_matches(bytes, offsetof(TreeHeader, checksum))) fail("its checksum is wrong");
  if (header.uuid != geometry_.metadata_uuid()) fail("it is of another filesystem");
  if (header.owner.value() != number_) fail("it is of another group");
  if (header.address.value() * basic_block != geometry_.block_at(number_, block))
    fail("it is of another place");
  if (header.level.value() != level) fail("it is of another level");
  if (!so_far.is_left(level, header.left.value())) fail("what stands on its left is another");
  if (!so_far.is_next(level, block)) fail("the block on its left has another on its right");
  so_far.pass(level, block, header.right.value());
  const std::size_t count = header.records.value();
  if (node) node(block, header);
  const ConstByteSpan data = ConstByteSpan(bytes).subspan(sizeof(TreeHeader));
  if (level == 0) {
    if (count > most_records(geometry_, tree)) fail("it has too many records");
    leaf(block, data, count);
    return tree_key(tree, level, data, count);
  }
  const std::size_t most = most_keys(geometry_, tree);
  if (count > most || count == 0) fail("it has an impossible number of keys");
  for (std::size_t i = 0; i < count; ++i) {
    const Buffer key = walk_block(tree, parse_as<Be32>(data, most * shape.key + 4 * i).value(),
                                  level - 1, leaf, node, so_far);
    if (!is_tree_key(tree, data.subspan(i * shape.key, shape.key), key))
      fail("a key of it is not that of the block below");
  }
  return tree_key(tree, level, data, count);
}

std::vector<FreeExtent> Group::free_extents(Tree tree) const {
  std::vector<FreeExtent> all;
  std::uint64_t end = 0;
  std::uint64_t sum = 0;
  walk(tree, [&](std::uint32_t block, ConstByteSpan data, std::size_t records) {
    for (std::size_t i = 0; i < records; ++i) {
      const auto extent = parse_as<FreeExtent>(data, i * sizeof(FreeExtent));
      const std::uint64_t start = extent.start.value();
      const std::uint64_t count = extent.count.value();
      if (count == 0 || start + count > blocks() || (tree == Tree::by_block && start < end))
        corrupt(fmt::format("group {}, tree of {}, block {}: a free extent is impossible", number_,
                            tree_name(tree), block));
      end = start + count;
      sum += count;
      if (sum > blocks())
        corrupt(fmt::format("group {} has more free blocks than blocks", number_));
      all.push_back(extent);
    }
  });
  return all;
}

std::vector<InodeChunk> Group::chunks() const {
  std::vector<InodeChunk> all;
  walk(Tree::inodes, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
    for (std::size_t i = 0; i < records; ++i) {
      all.push_back(parse_as<InodeChunk>(data, i * sizeof(InodeChunk)));
      if (all.size() > 1 && all.back().first.value() <
                                std::uint64_t{all[all.size() - 2].first.value()} + inodes_per_chunk)
        corrupt("inode records are out of order");
    }
  });
  return all;
}

std::vector<std::uint32_t> Group::own_blocks() const {
  std::vector<std::uint32_t> own = free_list();
  for (const Tree tree : all_trees)
    if (has(tree))
      walk(
          tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
          [&](std::uint32_t block, const TreeHeader&) { own.push_back(block); });
  std::sort(own.begin(), own.end());
  return own;
}

std::uint64_t missing_in(const Geometry& geometry, const InodeChunk& chunk) {
  std::uint64_t missing = 0;
  if (!geometry.is(incompatible::sparse_inodes)) return missing;
  for (unsigned k = 0; k < 16; ++k)
    if ((chunk.hole_mask.value() >> k & 1) != 0) missing |= 0xFULL << (4 * k);
  return missing;
}

unsigned inodes_in(const Geometry& geometry, const InodeChunk& chunk) {
  return inodes_per_chunk - static_cast<unsigned>(std::popcount(missing_in(geometry, chunk)));
}

void Totals::add(const Group& group) {
  const FreeSpaceHeader& space = group.free_space();
  free_blocks += std::uint64_t{space.free_blocks.value()} + space.list_count.value() +
                 space.tree_blocks.value();
  inodes += group.inodes().inodes.value();
  free_inodes += group.inodes().free_inodes.value();
}

}  // namespace jh::xfs
