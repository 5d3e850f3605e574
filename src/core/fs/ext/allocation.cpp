#include "core/fs/ext/allocation.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jh::ext {

Buffer& Allocation::blocks_of(std::uint32_t group) {
  Edited& edited = groups_[group];
  if (!edited.blocks) edited.blocks = fs_.block_bitmap(group);
  return *edited.blocks;
}

Buffer& Allocation::inodes_of(std::uint32_t group) {
  Edited& edited = groups_[group];
  if (!edited.inodes) edited.inodes = fs_.inode_bitmap(group);
  return *edited.inodes;
}

bool Allocation::in_use(std::uint64_t block) {
  const Geometry& g = fs_.geometry();
  const std::uint32_t group = g.group_of(block);
  return test_bit(blocks_of(group), (block - g.group_first(group)) / g.cluster_ratio);
}

void Allocation::edit(std::uint64_t block, std::uint64_t count, bool taken) {
  const Geometry& g = fs_.geometry();
  fs_.check_run(block, count);
  for (std::uint64_t at = block; at < block + count;) {
    const std::uint32_t group = g.group_of(at);
    const std::uint64_t bit = (at - g.group_first(group)) / g.cluster_ratio;
    Buffer& bitmap = blocks_of(group);
    if (taken) {
      set_bit(bitmap, bit);
    } else {
      clear_bit(bitmap, bit);
    }
    groups_[group].blocks_changed = true;
    at = g.group_first(group) + (bit + 1) * g.cluster_ratio;
  }
}

void Allocation::take(std::uint64_t block, std::uint64_t count) { edit(block, count, true); }
void Allocation::release(std::uint64_t block, std::uint64_t count) { edit(block, count, false); }

bool Allocation::inode_in_use(std::uint32_t ino) {
  const Geometry& g = fs_.geometry();
  if (ino == 0 || ino > g.inodes()) damaged(fmt::format("inode {} does not exist", ino));
  return test_bit(inodes_of((ino - 1) / g.inodes_per_group), (ino - 1) % g.inodes_per_group);
}

void Allocation::edit_inode(std::uint32_t ino, bool taken, bool directory) {
  if (inode_in_use(ino) == taken) return;
  const Geometry& g = fs_.geometry();
  const std::uint32_t group = (ino - 1) / g.inodes_per_group;
  const std::uint32_t bit = (ino - 1) % g.inodes_per_group;
  Edited& edited = groups_[group];
  if (taken) {
    set_bit(*edited.inodes, bit);
    edited.highest_inode = std::max(edited.highest_inode, bit + 1);
  } else {
    clear_bit(*edited.inodes, bit);
  }
  edited.inodes_changed = true;
  if (directory) edited.directories += taken ? 1 : -1;
}

void Allocation::take_inode(std::uint32_t ino, bool directory) { edit_inode(ino, true, directory); }
void Allocation::release_inode(std::uint32_t ino, bool directory) {
  edit_inode(ino, false, directory);
}

std::optional<std::uint64_t> Allocation::allocate(std::uint64_t count, std::uint64_t goal,
                                                  const std::vector<BlockRun>& forbidden) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t clusters = ceil_div(count, g.cluster_ratio);
  const auto blocked = [&](std::uint64_t first, std::uint64_t end) {
    return std::any_of(forbidden.begin(), forbidden.end(),
                       [&](const BlockRun& run) { return run.start < end && first < run.end(); });
  };
  const std::uint32_t start = goal > g.first_data_block && goal < g.blocks ? g.group_of(goal) : 0;
  for (std::uint32_t i = 0; i < g.group_count; ++i) {
    const auto group = static_cast<std::uint32_t>((std::uint64_t{start} + i) % g.group_count);
    if (fs_.group(group).free_clusters < clusters && !groups_.contains(group)) continue;
    const Buffer& bitmap = blocks_of(group);
    std::uint64_t run = 0;
    for (std::uint64_t bit = 0; bit < g.group_clusters(group); ++bit) {
      const std::uint64_t block = g.group_first(group) + bit * g.cluster_ratio;
      const bool free = !test_bit(bitmap, bit) && block + g.cluster_ratio <= g.blocks &&
                        !blocked(block, block + g.cluster_ratio);
      run = free ? run + 1 : 0;
      if (run < clusters) continue;
      const std::uint64_t first = block - (clusters - 1) * g.cluster_ratio;
      take(first, clusters * g.cluster_ratio);
      return first;
    }
  }
  return std::nullopt;
}

void Allocation::finish() {
  const Geometry& g = fs_.geometry();
  std::set<std::uint32_t> tables;
  for (auto& [number, edited] : groups_) {
    if (!edited.blocks_changed && !edited.inodes_changed) continue;
    Group group = fs_.group(number);
    if (edited.blocks_changed) {
      group.flags &= static_cast<std::uint16_t>(~group_block_uninit);
      fs_.store().write(g.offset(group.block_bitmap), *edited.blocks);
      group.free_clusters =
          static_cast<std::uint32_t>(count_zero_bits(*edited.blocks, g.group_clusters(number)));
      if (g.metadata_csum()) group.block_bitmap_csum = fs_.checksums().block_bitmap(*edited.blocks);
    }
    if (edited.inodes_changed) {
      group.flags &= static_cast<std::uint16_t>(~group_inode_uninit);
      fs_.store().write(g.offset(group.inode_bitmap), *edited.inodes);
      group.free_inodes =
          static_cast<std::uint32_t>(count_zero_bits(*edited.inodes, g.inodes_per_group));
      if (g.metadata_csum()) group.inode_bitmap_csum = fs_.checksums().inode_bitmap(*edited.inodes);
      group.used_dirs = static_cast<std::uint32_t>(
          std::max<std::int64_t>(0, std::int64_t{group.used_dirs} + edited.directories));
      if (g.lazy_groups())
        group.itable_unused =
            std::min(group.itable_unused, g.inodes_per_group - edited.highest_inode);
    }
    fs_.set_group(number, group);
    tables.insert(number / g.desc_per_block);
  }
  for (const std::uint32_t table : tables) write_first_descriptor(fs_, table * g.desc_per_block);
  groups_.clear();
  refresh_totals(fs_);
}

void write_first_descriptor(Filesystem& fs, std::uint32_t group) {
  const Geometry& g = fs.geometry();
  const std::uint32_t block = group / g.desc_per_block;
  const bool run = !g.meta_bg() || block < g.first_meta_bg;
  const std::uint64_t at = run ? g.gdt_start(0) + block : g.descriptor_copies(block).front();
  fs.store().write(g.offset(at), fs.descriptor_block(block));
}

void refresh_totals(Filesystem& fs) {
  std::uint64_t clusters = 0;
  std::uint64_t inodes = 0;
  for (std::uint32_t number = 0; number < fs.geometry().group_count; ++number) {
    const Group group = fs.group(number);
    clusters += group.free_clusters;
    inodes += group.free_inodes;
  }
  fs.set_free_clusters(fs.edit_super(), clusters);
  fs.edit_super().free_inodes_count = checked_cast<std::uint32_t>(inodes);
  fs.write_super(0);
}

}  // namespace jh::ext
