#include "core/fs/ext/shrink.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/sizes.h"
#include "core/fs/ext/capacity.h"
#include "core/fs/ext/grow.h"
#include "core/fs/ext/relocate.h"

namespace jh::ext {
namespace {

bool lies_in(const std::vector<BlockRange>& runs, std::uint64_t start, std::uint64_t end) {
  return std::any_of(runs.begin(), runs.end(),
                     [&](const BlockRange& run) { return run.start < end && start < run.end(); });
}

// Blocks in front of the new end that a shorter descriptor table no longer needs.
void free_table_ends(Filesystem& fs, const Geometry& before) {
  const Geometry g = fs.geometry();
  Allocation allocation(fs);
  for (std::uint32_t number = 0; number < g.group_count; ++number) {
    const auto had = before.base_metadata(number);
    if (had.empty()) continue;
    std::vector<BlockRange> needed = g.base_metadata(number);
    if (g.cluster_ratio > 1)
      for (std::uint32_t other = 0; other < g.group_count; ++other) {
        const Group group = fs.group(other);
        needed.push_back({group.block_bitmap, 1});
        needed.push_back({group.inode_bitmap, 1});
        needed.push_back({group.inode_table, g.itable_blocks});
      }
    for (const BlockRange& run : had)
      for (std::uint64_t block = round_down(run.start, g.cluster_ratio); block < run.end();
           block += g.cluster_ratio)
        if (!lies_in(needed, block, block + g.cluster_ratio)) allocation.release(block, 1);
  }
  allocation.finish();
}

// The group that is the last one now: the bits behind its end are set.
void close_last_group(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  const std::uint32_t last = g.group_count - 1;
  Group group = fs.group(last);
  Buffer bitmap = fs.block_bitmap(last);
  const std::uint32_t clusters = g.group_clusters(last);
  set_bits(bitmap, clusters, 8ULL * g.block_size - clusters);
  group.flags &= static_cast<std::uint16_t>(~group_block_uninit);
  group.free_clusters = static_cast<std::uint32_t>(count_zero_bits(bitmap, clusters));
  if (g.metadata_csum()) group.block_bitmap_csum = fs.checksums().block_bitmap(bitmap);
  fs.store().write(g.offset(group.block_bitmap), bitmap);
  fs.set_group(last, group);
}

std::uint64_t metadata_blocks(const Geometry& g) {
  std::uint64_t blocks = std::uint64_t{g.group_count} * (2 + std::uint64_t{g.itable_blocks});
  for (std::uint32_t group = 0; group < g.group_count; ++group)
    blocks += g.base_metadata_blocks(group);
  return blocks;
}

void cut_super(Filesystem& fs, const ShrinkPlan& plan) {
  const Geometry& after = plan.after;
  Superblock super = fs.super();
  set_block_count(super, after);
  scale_reserved(super, fs, after);
  super.inodes_count = checked_cast<std::uint32_t>(after.inodes());
  super.reserved_gdt_blocks = checked_cast<std::uint16_t>(after.reserved_gdt);
  if (after.meta_bg()) super.first_meta_bg = after.first_meta_bg;
  super.backup_bgs[0] = after.backup_bgs[0];
  super.backup_bgs[1] = after.backup_bgs[1];
  if (const std::uint64_t overhead = super.overhead_clusters.value(); overhead != 0) {
    // With clusters the guest counts it anew when it is zero.
    const std::uint64_t less = metadata_blocks(plan.before) - metadata_blocks(after);
    super.overhead_clusters = after.cluster_ratio > 1
                                  ? 0
                                  : static_cast<std::uint32_t>(overhead - std::min(overhead, less));
  }
  fs.set_super(super, after);
}

void write_all_tables(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  const auto write_table = [&](std::uint32_t group) {
    for (std::uint32_t i = 0; i < g.old_desc_blocks(); ++i)
      fs.store().write(g.offset(g.gdt_start(group) + i), fs.descriptor_block(i));
  };
  write_table(0);
  for (const std::uint32_t group : g.backup_groups()) {
    if (!g.meta_bg() || group / g.desc_per_block < g.first_meta_bg) write_table(group);
    fs.write_super(group);
  }
  for (std::uint32_t i = g.old_desc_blocks(); i < g.desc_blocks; ++i)
    for (const std::uint64_t block : g.descriptor_copies(i))
      fs.store().write(g.offset(block), fs.descriptor_block(i));
  fs.write_super(0);
}

[[noreturn]] void refuse_below(const Geometry& g, const Floor& floor, std::uint64_t wanted) {
  refuse(fmt::format("the filesystem cannot become as small as {}: it needs {} ({})",
                     human(Bytes(wanted * g.block_size)),
                     spelled_out(Bytes(floor.blocks * g.block_size)), floor.reason),
         "ext filesystem", "ask for no less than that, or remove something inside the guest first");
}

}  // namespace

Floor find_floor(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  Capacity capacity(fs);
  const auto obstacle = [&](std::uint64_t blocks) {
    const auto after = capacity.shrunk(blocks);
    if (!after) return std::string("the metadata of one block group");
    return capacity.obstacle(*after);
  };
  std::uint64_t low = 0;          // too few
  std::uint64_t high = g.blocks;  // enough
  std::string reason;
  while (high - low > 1) {
    const std::uint64_t middle = low + (high - low) / 2;
    std::string found = obstacle(middle);
    if (found.empty()) {
      high = middle;
    } else {
      low = middle;
      reason = std::move(found);
    }
  }
  const auto after = capacity.shrunk(high);
  return {after ? after->blocks : g.blocks, reason};
}

ShrinkPlan plan_shrink(Filesystem& fs, std::uint64_t blocks) {
  check_changeable(fs.super());
  ShrinkPlan plan;
  plan.before = fs.geometry();
  plan.after = plan.before;
  if (blocks >= plan.before.blocks) return plan;
  Capacity capacity(fs);
  const auto after = capacity.shrunk(blocks);
  if (!after || !capacity.obstacle(*after).empty())
    refuse_below(plan.before, find_floor(fs), blocks);
  plan.after = *after;
  if (!plan.changes()) return plan;
  if (const std::uint64_t left = round_down(blocks, after->cluster_ratio) - after->blocks;
      left != 0)
    plan.notes.push_back(fmt::format(
        "its last {} would be too few for a block group with its own metadata and stay unused",
        human(Bytes(left * after->block_size))));
  for (const std::uint32_t group : plan.before.backup_bgs)
    if (plan.before.has_compat(compat::sparse_super2) && group >= after->group_count)
      plan.notes.push_back("the copy of its superblock in the last group goes with that group");
  plan.blocks_to_move = capacity.blocks_behind(*after);
  plan.inodes_to_move = capacity.inodes_behind(*after);
  const std::uint64_t copies = after->backup_groups().size() + 1;
  plan.bytes_to_write = (plan.blocks_to_move + std::uint64_t{after->group_count} * 2 +
                         copies * (after->desc_blocks + 1ULL) + after->reserved_gdt + 64) *
                            after->block_size +
                        std::uint64_t{plan.inodes_to_move} * 4 * after->inode_size;
  return plan;
}

void shrink(Filesystem& fs, const ShrinkPlan& plan, Progress& progress) {
  if (!plan.changes()) return;
  if (plan.inodes_to_move != 0)
    renumber_inodes(fs, checked_cast<std::uint32_t>(plan.after.inodes()));
  const MoveReport moved = vacate_end(fs, plan.after, progress);
  for (const UsageChange& change : moved.usage) change_usage(fs, change);
  cut_super(fs, plan);
  close_last_group(fs);
  free_table_ends(fs, plan.before);
  rebuild_resize_inode(fs);
  write_all_tables(fs);
}

}  // namespace jh::ext
