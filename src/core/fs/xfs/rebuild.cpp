#include "core/fs/xfs/rebuild.h"

#include <algorithm>

namespace jh::xfs {

FreeTree::FreeTree(Store& place, const Geometry& geometry, const Group& group, Tree tree)
    : place_(place), geometry_(geometry), group_(group), tree_(tree) {
  levels_.resize(group.root_of(tree).levels);
  group.walk(
      tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
      [&](std::uint32_t block, const TreeHeader& header) {
        levels_[header.level.value()].push_back(block);
      });
}

bool FreeTree::make_room(std::size_t records, std::vector<std::uint32_t>& ready) {
  const auto take = [&](std::vector<std::uint32_t>& level) {
    if (ready.empty()) return false;
    level.push_back(ready.front());
    ready.erase(ready.begin());
    ++added_;
    return true;
  };
  std::size_t below = records;
  for (std::size_t level = 0; level < levels_.size(); ++level) {
    const std::size_t most =
        level == 0 ? most_records(geometry_, tree_) : most_keys(geometry_, tree_);
    while (levels_[level].size() * most < below)
      if (!take(levels_[level])) return false;
    below = levels_[level].size();
    if (level + 1 == levels_.size() && below > 1) levels_.emplace_back();
  }
  return true;
}

void FreeTree::write(const std::vector<FreeExtent>& records) {
  std::vector<FreeExtent> keys = records;  // of what is to be pointed to
  std::vector<std::uint32_t> children;     // in the level below
  for (std::size_t level = 0; level < levels_.size(); ++level) {
    const std::vector<std::uint32_t>& blocks = levels_[level];
    const std::size_t share = keys.size() / blocks.size();
    const std::size_t larger = keys.size() % blocks.size();  // these get one more
    std::vector<FreeExtent> firsts;
    std::size_t at = 0;
    for (std::size_t i = 0; i < blocks.size(); ++i) {
      const std::size_t count = share + (i < larger ? 1 : 0);
      Buffer data(geometry_.block_size() - sizeof(TreeHeader));
      for (std::size_t k = 0; k < count; ++k) {
        put_at(data, k * sizeof(FreeExtent), keys[at + k]);
        if (level != 0)
          put_at(data, most_keys(geometry_, tree_) * sizeof(FreeExtent) + 4 * k,
                 Be32(children[at + k]));
      }
      write_block(level, i, data, count);
      firsts.push_back(count == 0 ? FreeExtent{} : keys[at]);
      at += count;
    }
    keys = std::move(firsts);
    children = blocks;
  }
}

void FreeTree::write_block(std::size_t level, std::size_t index, ConstByteSpan data,
                           std::size_t records) {
  const std::vector<std::uint32_t>& row = levels_[level];
  const std::uint64_t at = geometry_.block_at(group_.number(), row[index]);
  // When it was last logged stays: what is later than the log knows of would be refused.
  TreeHeader header{};
  if (const auto old = read_as<TreeHeader>(place_, at); old.magic.value() == shape_of(tree_).magic)
    header.log_sequence = old.log_sequence;
  header.level = static_cast<std::uint16_t>(level);
  header.records = checked_cast<std::uint16_t>(records);
  header.left = index == 0 ? no_block : row[index - 1];
  header.right = index + 1 == row.size() ? no_block : row[index + 1];
  place_.write(at, tree_block(geometry_, group_.number(), tree_, at, header, data));
}

Buffer tree_block(const Geometry& geometry, std::uint32_t group, Tree tree, std::uint64_t at,
                  TreeHeader header, ConstByteSpan data) {
  header.magic = shape_of(tree).magic;
  header.address = at / basic_block;
  header.uuid = geometry.metadata_uuid();
  header.owner = group;
  Buffer block(geometry.block_size());
  put_at(block, 0, header);
  std::copy(data.begin(), data.end(), block.begin() + sizeof(TreeHeader));
  set_checksum(block, offsetof(TreeHeader, checksum));
  return block;
}

void sort_by_size(std::vector<FreeExtent>& extents) {
  std::sort(extents.begin(), extents.end(), [](const FreeExtent& a, const FreeExtent& b) {
    if (a.count.value() != b.count.value()) return a.count.value() < b.count.value();
    return a.start.value() < b.start.value();
  });
}

}  // namespace jh::xfs
