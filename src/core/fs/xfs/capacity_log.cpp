// Where the log goes when it lies behind the end.
#include <algorithm>

#include "core/base/ranges.h"
#include "core/fs/xfs/capacity.h"

namespace jh::xfs {

bool Capacity::log_leaves(const Cut& cut) const {
  const Superblock& super = geometry_.superblock();
  const std::uint64_t start = geometry_.block_at(super.log_start.value()) / geometry_.block_size();
  return start + super.log_blocks.value() > cut.kept_end();
}

std::uint64_t Capacity::free_before(std::uint32_t group, std::uint64_t block) const {
  const std::vector<FreeExtent>& free = groups_[group].free;
  const auto next = std::upper_bound(
      free.begin(), free.end(), block,
      [](std::uint64_t at, const FreeExtent& each) { return at < each.start.value(); });
  const auto index = static_cast<std::size_t>(next - free.begin());
  if (index == 0) return 0;
  const FreeExtent& last = free[index - 1];
  return groups_[group].free_before[index - 1] +
         std::min<std::uint64_t>(last.count.value(), block - last.start.value());
}

std::uint64_t Capacity::free_in(const Blocks& blocks) const {
  const auto group = static_cast<std::uint32_t>(blocks.line / geometry_.group_blocks());
  const std::uint64_t start = blocks.line % geometry_.group_blocks();
  return free_before(group, start + blocks.count) - free_before(group, start);
}

// The place for so many blocks in a row of which most are free already, and where no tree and no
// inode stands.
std::optional<Blocks> Capacity::best_place_in(std::uint32_t group, std::uint64_t end,
                                              std::uint64_t count) const {
  Ranges pinned;
  add_range(pinned, 0, geometry_.header_blocks());
  for (const std::uint32_t block : own_of(group)) add_range(pinned, block, block + 1ULL);
  const unsigned in_block = geometry_.superblock().inodes_per_block_log;
  for (const InodeChunk& chunk : groups_[group].chunks)
    add_range(pinned, chunk.first.value() >> in_block,
              ((std::uint64_t{chunk.first.value()} + inodes_per_chunk - 1) >> in_block) + 1);
  const Superblock& super = geometry_.superblock();
  if (geometry_.group_of(super.log_start.value()) == group) {
    const std::uint64_t log = geometry_.block_in_group(super.log_start.value());
    add_range(pinned, log, log + super.log_blocks.value());
  }
  std::vector<std::uint64_t> starts;  // that are worth looking at
  for (std::uint64_t at = 0; at < end;) {
    const std::uint64_t from = first_outside(pinned, at, end);
    const auto next = pinned.lower_bound(from);
    const std::uint64_t to = next == pinned.end() ? end : std::min(end, next->first);
    if (to - from >= count) {
      starts.insert(starts.end(), {from, to - count});
      for (const FreeExtent& extent : groups_[group].free) {
        const std::uint64_t start = extent.start.value();
        if (start >= from && start + count <= to) starts.push_back(start);
        const std::uint64_t stop = start + extent.count.value();
        if (stop >= from + count && stop <= to) starts.push_back(stop - count);
      }
    }
    at = std::max(to, at + 1);
  }
  std::optional<Blocks> best;
  std::uint64_t most = 0;
  for (const std::uint64_t start : starts) {
    const std::uint64_t there = free_before(group, start + count) - free_before(group, start);
    if (best && there <= most) continue;
    most = there;
    best = Blocks{geometry_.group_blocks() * group + start, count};
  }
  return best;
}

void Capacity::place_log(Cut& cut) const {
  if (!log_leaves(cut)) return;
  const std::uint64_t count = geometry_.superblock().log_blocks.value();
  // Checkers compute the root folder's number from whether the log lies in the first group.
  const bool may_be_first =
      geometry_.group_of(geometry_.superblock().log_start.value()) == 0 || cut.groups == 1;
  std::uint64_t most = 0;
  for (std::uint32_t group = may_be_first ? 0 : 1; group < cut.groups; ++group) {
    std::optional<Blocks> place;
    if (const std::uint64_t end = cut.blocks_of(geometry_, group);
        end < geometry_.blocks_of(group)) {
      place = best_place_in(group, end, count);
    } else {
      const auto [known, fresh] = log_places_.try_emplace(group);
      if (fresh) known->second = best_place_in(group, end, count);
      place = known->second;
    }
    if (!place) continue;
    const std::uint64_t there = free_in(*place);
    if (cut.log.count != 0 && there <= most) continue;
    most = there;
    cut.log = *place;
  }
}

// What a group has free besides where the log goes.
Capacity::FreeBySize Capacity::without_log(const Cut& cut, std::uint32_t group) const {
  FreeBySize out;
  const std::uint64_t base = geometry_.group_blocks() * group;
  for (const FreeExtent& extent : groups_[group].free)
    cut.for_each_part({base + extent.start.value(), extent.count.value()},
                      [&](const Blocks& part, bool leaves) {
                        if (!leaves) sort_in(out, part.line - base, part.count);
                      });
  return out;
}

}  // namespace jh::xfs
