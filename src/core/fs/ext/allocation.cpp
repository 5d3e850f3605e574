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

void Allocation::release(std::uint64_t block, std::uint64_t count) {
  if (!limit_) return edit(block, count, false);
  if (block < *limit_) given_back_.push_back({block, std::min(count, *limit_ - block)});
}

void Allocation::keep(BlockRange run) {
  take(run.start, run.count);
  kept_.push_back(run);
}

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
                                                  const std::vector<BlockRange>& forbidden) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t clusters = ceil_div(count, g.cluster_ratio);
  if (limit_ && clusters == 1 && forbidden.empty()) return allocate_one();
  const std::uint64_t limit = limit_.value_or(g.blocks);
  const auto blocked = [&](std::uint64_t first, std::uint64_t end) {
    return std::any_of(forbidden.begin(), forbidden.end(),
                       [&](const BlockRange& run) { return run.start < end && first < run.end(); });
  };
  const std::uint32_t start = goal > g.first_data_block && goal < g.blocks ? g.group_of(goal) : 0;
  for (std::uint32_t i = 0; i < g.group_count; ++i) {
    const auto group = static_cast<std::uint32_t>((std::uint64_t{start} + i) % g.group_count);
    if (fs_.group(group).free_clusters < clusters && !groups_.contains(group)) continue;
    const Buffer& bitmap = blocks_of(group);
    std::uint64_t run = 0;
    for (std::uint64_t bit = 0; bit < g.group_clusters(group); ++bit) {
      const std::uint64_t block = g.group_first(group) + bit * g.cluster_ratio;
      const bool free = !test_bit(bitmap, bit) && block + g.cluster_ratio <= limit &&
                        !blocked(block, block + g.cluster_ratio);
      run = free ? run + 1 : 0;
      if (run < clusters) continue;
      const std::uint64_t first = block - (clusters - 1) * g.cluster_ratio;
      take(first, clusters * g.cluster_ratio);
      return first;
    }
  }
  if (reclaim()) return allocate(count, goal, forbidden);
  return std::nullopt;
}

void Allocation::set_limit(std::uint64_t end) {
  limit_ = end;
  searched_.fill(fs_.geometry().first_data_block);
}

// Blocks below the limit that are free, in a row of at least 2^size_class clusters.
std::optional<BlockRange> Allocation::find_run(std::uint32_t size_class, std::uint64_t most) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t least = 1ULL << size_class;
  std::uint64_t& from = searched_[size_class];
  while (from < *limit_) {
    const std::uint32_t group = g.group_of(from);
    const std::uint64_t first = g.group_first(group);
    const std::uint64_t next = first + g.blocks_per_group;
    if (fs_.group(group).free_clusters < least && !groups_.contains(group)) {
      from = next;
      continue;
    }
    const Buffer& bitmap = blocks_of(group);
    const std::uint64_t bits =
        std::min<std::uint64_t>(g.group_clusters(group), (*limit_ - first) / g.cluster_ratio);
    const std::uint64_t start = end_of_run(bitmap, (from - first) / g.cluster_ratio, bits, true);
    const std::uint64_t end = end_of_run(bitmap, start, bits, false);
    if (end - start >= least) {
      from = first + start * g.cluster_ratio;
      return BlockRange{from, std::min(most, end - start) * g.cluster_ratio};
    }
    from = end < bits ? first + end * g.cluster_ratio : next;
  }
  return std::nullopt;
}

std::optional<BlockRange> Allocation::allocate_piece(std::uint64_t count) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t clusters = ceil_div(count, g.cluster_ratio);
  ensure(limit_ && clusters != 0, "pieces are asked for below a limit");
  const auto best =
      std::min<std::uint32_t>(static_cast<std::uint32_t>(std::bit_width(clusters)), size_classes);
  for (std::uint32_t size_class = best; size_class-- > 0;) {
    const auto found = find_run(size_class, clusters);
    if (!found) continue;
    take(found->start, found->count);
    return BlockRange{found->start, std::min(count, found->count)};
  }
  return reclaim() ? allocate_piece(count) : std::nullopt;
}

std::optional<std::uint64_t> Allocation::allocate_one() {
  constexpr std::uint64_t together = 256;
  const std::uint64_t ratio = fs_.geometry().cluster_ratio;
  if (spare_.count == 0) {
    const auto piece = allocate_piece(together * ratio);
    if (!piece) return std::nullopt;
    spare_ = *piece;
  }
  const std::uint64_t block = spare_.start;
  spare_.start += ratio;
  spare_.count -= std::min(spare_.count, ratio);
  return block;
}

// What was kept back is free again; false when that is nothing.
bool Allocation::reclaim() {
  if (!limit_ || (spare_.count == 0 && given_back_.empty())) return false;
  if (spare_.count != 0) edit(spare_.start, spare_.count, false);
  spare_ = {};
  for (const BlockRange& run : given_back_) edit(run.start, run.count, false);
  given_back_.clear();
  for (const BlockRange& run : kept_) take(run.start, run.count);
  searched_.fill(fs_.geometry().first_data_block);
  return true;
}

std::optional<std::uint32_t> Allocation::allocate_inode(std::uint32_t last, bool directory) {
  const Geometry& g = fs_.geometry();
  for (; inode_hint_ < last;) {
    const std::uint32_t group = inode_hint_ / g.inodes_per_group;
    const std::uint32_t next = (group + 1) * g.inodes_per_group;
    if (fs_.group(group).free_inodes == 0) {
      inode_hint_ = next;
      continue;
    }
    const std::uint64_t bit =
        end_of_run(inodes_of(group), inode_hint_ % g.inodes_per_group, g.inodes_per_group, true);
    inode_hint_ = group * g.inodes_per_group + static_cast<std::uint32_t>(bit);
    if (bit == g.inodes_per_group) continue;
    take_inode(inode_hint_ + 1, directory);
    return ++inode_hint_;
  }
  return std::nullopt;
}

void Allocation::finish() {
  const Geometry& g = fs_.geometry();
  reclaim();
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
