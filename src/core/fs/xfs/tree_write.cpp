#include "core/fs/xfs/tree_write.h"

#include "core/fs/xfs/rebuild.h"

namespace jh::xfs {
namespace {

// Calls visit(blocks) for each level, leaves first, that have so many records and keys in a block.
template <class Visit>
void for_each_level(std::size_t in_leaf, std::size_t in_node, std::size_t records, Visit visit) {
  std::size_t level = std::max<std::size_t>(1, ceil_div(records, in_leaf));
  visit(level);
  while (level > 1) visit(level = ceil_div(level, in_node));
}

std::size_t sum_of_levels(std::size_t in_leaf, std::size_t in_node, std::size_t records) {
  std::size_t blocks = 0;
  for_each_level(in_leaf, in_node, records, [&](std::size_t level) { blocks += level; });
  return blocks;
}

}  // namespace

std::size_t blocks_of_tree(const Geometry& geometry, Tree tree, std::size_t records) {
  return sum_of_levels(most_records(geometry, tree), most_keys(geometry, tree), records);
}

std::size_t most_blocks_of_tree(const Geometry& geometry, Tree tree, std::size_t records) {
  if (records == 0) return 0;
  return sum_of_levels(std::max<std::size_t>(1, most_records(geometry, tree) / 2),
                       std::max<std::size_t>(2, most_keys(geometry, tree) / 2), records);
}

unsigned levels_of_tree(const Geometry& geometry, Tree tree, std::size_t records) {
  unsigned levels = 0;
  for_each_level(most_records(geometry, tree), most_keys(geometry, tree), records,
                 [&](std::size_t) { ++levels; });
  return levels;
}

Group::TreeRoot write_group_tree(Store& place, const Geometry& geometry, std::uint32_t group,
                                 Tree tree, const std::vector<std::uint32_t>& blocks,
                                 ConstByteSpan records) {
  const TreeShape shape = shape_of(tree);
  const std::size_t most_in_node = most_keys(geometry, tree);
  Buffer below(records.begin(), records.end());  // records, or keys
  std::vector<std::uint32_t> children;
  std::size_t used = 0;
  for (unsigned level = 0;; ++level) {
    const std::size_t each = level == 0 ? shape.record : shape.key;
    const std::size_t all = below.size() / each;
    const std::size_t most = level == 0 ? most_records(geometry, tree) : most_in_node;
    const std::size_t width = std::max<std::size_t>(1, ceil_div(all, most));
    ensure(used + width <= blocks.size(), "a tree has as many blocks as it was counted for");
    const auto row = blocks.begin() + static_cast<std::ptrdiff_t>(used);
    used += width;
    Buffer keys;
    std::size_t at = 0;
    for (std::size_t i = 0; i < width; ++i) {
      const std::size_t count = all / width + (i < all % width ? 1 : 0);
      Buffer data(geometry.block_size() - sizeof(TreeHeader));
      const ConstByteSpan own = ConstByteSpan(below).subspan(at * each, count * each);
      std::copy(own.begin(), own.end(), data.begin());
      if (level != 0)
        for (std::size_t k = 0; k < count; ++k)
          put_at(data, most_in_node * shape.key + 4 * k, Be32(children[at + k]));
      const std::uint32_t block = row[static_cast<std::ptrdiff_t>(i)];
      const std::uint64_t where = geometry.block_at(group, block);
      TreeHeader header{};
      // When it was last logged stays: what is later than the log knows of would be refused.
      if (const auto old = read_as<TreeHeader>(place, where);
          old.magic.value() == shape.magic && old.owner.value() == group)
        header.log_sequence = old.log_sequence;
      header.level = static_cast<std::uint16_t>(level);
      header.records = static_cast<std::uint16_t>(count);
      header.left = i == 0 ? no_block : row[static_cast<std::ptrdiff_t>(i) - 1];
      header.right = i + 1 == width ? no_block : row[static_cast<std::ptrdiff_t>(i) + 1];
      place.write(where, tree_block(geometry, group, tree, where, header, data));
      const Buffer key = tree_key(tree, level, data, count);
      keys.insert(keys.end(), key.begin(), key.end());
      at += count;
    }
    if (width == 1) {
      ensure(used == blocks.size(), "a tree uses all blocks that it was given");
      return {row[0], level + 1};
    }
    children.assign(row, row + static_cast<std::ptrdiff_t>(width));
    below = std::move(keys);
  }
}

}  // namespace jh::xfs
