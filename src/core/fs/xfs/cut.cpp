#include "core/fs/xfs/cut.h"

#include <algorithm>

#include "core/fs/xfs/tree_write.h"

namespace jh::xfs {
void Cut::for_each_part(const Blocks& all,
                        const std::function<void(const Blocks&, bool)>& visit) const {
  for (std::uint64_t at = all.line; at < all.end();) {
    std::uint64_t end = all.end();
    for (const std::uint64_t border : {log.line, log.end(), kept_end()})
      if (border > at) end = std::min(end, border);
    visit({at, end - at}, leaves(at));
    at = end;
  }
}

Cut cut_at(const Geometry& geometry, std::uint64_t blocks) {
  const std::uint64_t each = geometry.group_blocks();
  blocks = std::min(blocks, geometry.blocks());
  if (const std::uint64_t rest = blocks % each; rest != 0 && rest < least_group) blocks -= rest;
  const std::uint64_t groups = ceil_div(blocks, each);
  const std::uint64_t last = groups == 0 ? 0 : blocks - each * (groups - 1);
  return {blocks, static_cast<std::uint32_t>(groups), last, last};
}

std::uint64_t inodes_in_unit(const Geometry& geometry) {
  return std::max<std::uint64_t>(inodes_per_chunk,
                                 1ULL << geometry.superblock().inodes_per_block_log);
}

std::uint64_t inode_unit(const Geometry& geometry) {
  return inodes_in_unit(geometry) >> geometry.superblock().inodes_per_block_log;
}

std::uint64_t inode_alignment(const Geometry& geometry) {
  return std::max<std::uint64_t>(1, geometry.superblock().inode_alignment.value());
}

bool is_behind(const Geometry& geometry, const InodeChunk& chunk, std::uint64_t group_blocks) {
  const std::uint64_t end = round_down(group_blocks, inode_alignment(geometry));
  const std::uint64_t last = std::uint64_t{chunk.first.value()} + inodes_per_chunk;
  return last > end << geometry.superblock().inodes_per_block_log;
}

std::uint64_t set_aside(const Geometry& geometry, const FreeSpaceHeader& space, const Cut& cut,
                        std::uint32_t group) {
  const Superblock& super = geometry.superblock();
  const bool has_log = cut.log.count != 0 ? cut.log.line / geometry.group_blocks() == group
                                          : geometry.group_of(super.log_start.value()) == group;
  std::uint64_t group_blocks = cut.blocks_of(geometry, group);
  if (has_log) group_blocks -= std::min<std::uint64_t>(group_blocks, super.log_blocks.value());
  std::uint64_t blocks = 24;
  const auto add = [&](std::uint64_t most, std::uint64_t has) {
    blocks += most - std::min(most, has);
  };
  if (geometry.has(ro_compatible::shared_extents))
    add(most_blocks_of_tree(geometry, Tree::shared, group_blocks), space.shared_blocks.value());
  if (geometry.has(ro_compatible::reverse_map))
    add(std::max(group_blocks / 100,
                 most_blocks_of_tree(geometry, Tree::reverse_map, group_blocks)),
        space.reverse_map_blocks.value());
  if (geometry.has(ro_compatible::free_inode_tree))
    add(most_blocks_of_tree(geometry, Tree::free_inodes,
                            (group_blocks << super.inodes_per_block_log) / inodes_per_chunk),
        0);
  return blocks;
}

}  // namespace jh::xfs
