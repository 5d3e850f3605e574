#include "core/fs/ext/capacity.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/sizes.h"
#include "core/fs/ext/grow.h"

namespace jh::ext {
namespace {

// Of a run of blocks, how many lie at or behind `end`.
std::uint64_t behind(std::uint64_t start, std::uint64_t count, std::uint64_t end) {
  if (start >= end) return count;
  return start + count > end ? start + count - end : 0;
}

}  // namespace

Capacity::Capacity(Filesystem& fs) : fs_(fs), g_(fs.geometry()), runs_(g_.group_count) {
  std::uint64_t free_clusters = 0;
  std::uint64_t free_inodes = 0;
  std::uint64_t clusters = 0;
  for (std::uint32_t number = 0; number < g_.group_count; ++number) {
    const Group group = fs.group(number);
    free_clusters += group.free_clusters;
    free_inodes += group.free_inodes;
    clusters += g_.group_clusters(number);
    if (group.free_inodes != g_.inodes_per_group) last_inode_group_ = number;
  }
  used_clusters_ = clusters - std::min(clusters, free_clusters);
  used_inodes_ = g_.inodes() - std::min(g_.inodes(), free_inodes);
}

std::optional<Geometry> Capacity::shrunk(std::uint64_t blocks) const {
  blocks = round_down(blocks, g_.cluster_ratio);
  if (blocks >= g_.blocks) return g_;
  const auto resized = [&](std::uint64_t size) {
    Geometry after = g_.resized(size);
    if (g_.has_compat(compat::resize_inode) && after.desc_blocks < g_.desc_blocks) {
      // What the table gives up is kept for it, so that nothing behind it need change.
      const std::uint32_t most = g_.block_size / 4;
      after.reserved_gdt = std::max(
          g_.reserved_gdt, std::min(most, g_.reserved_gdt + g_.desc_blocks - after.desc_blocks));
    }
    after.first_meta_bg = std::min(after.first_meta_bg, after.desc_blocks);
    for (std::uint32_t& group : after.backup_bgs)
      if (group >= after.group_count) group = 0;
    return after;
  };
  if (blocks <= g_.first_data_block) return std::nullopt;
  Geometry after = resized(blocks);
  const std::uint32_t last = after.group_count - 1;
  if (after.group_blocks(last) < own_overhead(after, last) + fewest_useful_blocks) {
    if (last == 0) return std::nullopt;
    after = resized(after.group_first(last));
  }
  return after;
}

std::uint64_t Capacity::metadata_clusters(const Geometry& g) const {
  std::uint64_t blocks = std::uint64_t{g.group_count} * (2 + std::uint64_t{g.itable_blocks});
  if (g.meta_bg()) {
    for (std::uint32_t group = 0; group < g.group_count; ++group)
      blocks += g.base_metadata_blocks(group);
  } else {
    const std::uint64_t copy = 1 + std::uint64_t{g.desc_blocks} + g.reserved_gdt;
    blocks += copy * (1 + g.backup_groups().size());
  }
  return blocks / g.cluster_ratio;
}

std::uint64_t Capacity::blocks_behind(const Geometry& after) {
  if (after.blocks >= g_.blocks) return 0;
  std::uint64_t clusters = 0;
  for (std::uint32_t number = after.group_count; number < g_.group_count; ++number)
    clusters += g_.group_clusters(number) -
                std::min(g_.group_clusters(number), fs_.group(number).free_clusters);
  const std::uint32_t last = after.group_count - 1;
  if (after.group_clusters(last) < g_.group_clusters(last)) {
    const Buffer bitmap = fs_.block_bitmap(last);
    for (std::uint32_t bit = after.group_clusters(last); bit < g_.group_clusters(last); ++bit)
      clusters += test_bit(bitmap, bit) ? 1 : 0;
  }
  std::uint64_t metadata = 0;
  for (std::uint32_t number = after.group_count; number < g_.group_count; ++number) {
    const Group group = fs_.group(number);
    metadata += g_.base_metadata_blocks(number) + behind(group.block_bitmap, 1, after.blocks) +
                behind(group.inode_bitmap, 1, after.blocks) +
                behind(group.inode_table, g_.itable_blocks, after.blocks);
  }
  const std::uint64_t blocks = clusters * g_.cluster_ratio;
  return blocks - std::min(blocks, metadata);
}

std::uint32_t Capacity::inodes_behind(const Geometry& after) const {
  std::uint64_t inodes = 0;
  for (std::uint32_t number = after.group_count; number < g_.group_count; ++number)
    inodes += g_.inodes_per_group - std::min(g_.inodes_per_group, fs_.group(number).free_inodes);
  return static_cast<std::uint32_t>(inodes);
}

std::uint32_t Capacity::tables_behind(const Geometry& after) const {
  std::uint32_t tables = 0;
  for (std::uint32_t number = 0; number < after.group_count; ++number)
    if (behind(fs_.group(number).inode_table, g_.itable_blocks, after.blocks) != 0) ++tables;
  return tables;
}

const Capacity::Runs& Capacity::runs_of(std::uint32_t number) {
  auto& known = runs_[number];
  if (known) return *known;
  known.emplace();
  const std::uint32_t table_clusters =
      static_cast<std::uint32_t>(ceil_div(g_.itable_blocks, g_.cluster_ratio));
  if (const Group group = fs_.group(number); group.block_uninit()) {
    // Nothing but metadata: it cuts what is free into four runs at most.
    const std::uint32_t tables = group.free_clusters / table_clusters;
    *known = {4, tables > 3 ? tables - 3 : 0};
    return *known;
  }
  const Buffer bitmap = fs_.block_bitmap(number);
  const std::uint64_t clusters = g_.group_clusters(number);
  for (std::uint64_t bit = end_of_run(bitmap, 0, clusters, true); bit < clusters;) {
    const std::uint64_t end = end_of_run(bitmap, bit, clusters, false);
    ++known->count;
    known->tables += static_cast<std::uint32_t>((end - bit) / table_clusters);
    bit = end_of_run(bitmap, end, clusters, true);
  }
  return *known;
}

// Each run of free blocks can cut one extent in two, and be the reason of one more tree block.
std::uint64_t Capacity::most_pieces(const Geometry& after, std::uint64_t moved) {
  std::uint64_t pieces = 0;
  for (std::uint32_t number = after.group_count; number < g_.group_count; ++number)
    if (fs_.group(number).inode_table < after.blocks) pieces += 3;
  for (std::uint32_t number = 0; number < after.group_count && pieces < moved; ++number)
    pieces += runs_of(number).count;
  return std::min(pieces, moved);
}

std::string Capacity::obstacle(const Geometry& after) {
  if (after.blocks >= g_.blocks) return {};
  if (after.inodes() < used_inodes_ || after.inodes() < g_.first_ino)
    return fmt::format("{} inodes are in use, {} in each block group", used_inodes_,
                       g_.inodes_per_group);
  if (g_.has_compat(compat::stable_inodes) && last_inode_group_ >= after.group_count)
    return "inode numbers may not change in it (stable_inodes)";
  const std::uint64_t metadata = metadata_clusters(g_);
  const std::uint64_t content = used_clusters_ - std::min(used_clusters_, metadata);
  const std::uint64_t moved = blocks_behind(after);
  std::uint64_t needed = content + metadata_clusters(after);
  // A count for clusters that are shared by two kinds of metadata is not kept.
  if (g_.cluster_ratio > 1) needed += after.group_count;
  const std::uint32_t tables = tables_behind(after);
  if (moved != 0 || tables != 0) {
    const std::uint64_t pieces = most_pieces(after, moved);
    needed += pieces + pieces / 64 + 8;
  }
  const std::uint64_t there = (after.blocks - g_.first_data_block) / g_.cluster_ratio;
  if (needed > there) return fmt::format("{} blocks in use", grouped(needed * g_.cluster_ratio));
  if (tables != 0) {
    std::uint64_t fitting = 0;
    for (std::uint32_t number = 0; number + 1 < after.group_count && fitting < tables; ++number)
      fitting += runs_of(number).tables;
    if (fitting < tables && g_.has_incompat(incompat::flex_bg))
      return fmt::format("{} inode tables, for which no free blocks lie in a row", tables);
  }
  return {};
}

}  // namespace jh::ext
