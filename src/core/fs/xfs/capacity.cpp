#include "core/fs/xfs/capacity.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "core/base/sizes.h"

namespace jh::xfs {

Capacity::Capacity(Store& place, const Geometry& geometry) : place_(place), geometry_(geometry) {
  groups_.resize(geometry.groups());
  for (std::uint32_t number = 0; number < geometry.groups(); ++number) {
    GroupFacts& facts = groups_[number];
    const Group group(place, geometry, number);
    facts.free = group.free_extents();
    facts.free_before.push_back(0);
    for (const FreeExtent& extent : facts.free) {
      sort_in(facts.by_size, extent.start.value(), extent.count.value());
      facts.free_before.push_back(facts.free_before.back() + extent.count.value());
    }
    const FreeSpaceHeader& space = facts.space = group.free_space();
    facts.own_blocks = geometry.header_blocks() + space.list_count.value() +
                       space.tree_blocks.value() + 2 + space.shared_blocks.value();
    if (group.has(Tree::reverse_map)) ++facts.own_blocks;
    facts.chunks = group.chunks();
    for (const Tree tree : {Tree::inodes, Tree::free_inodes})
      if (group.has(tree))
        group.walk(
            tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
            [&](std::uint32_t, const TreeHeader&) { ++facts.own_blocks; });
  }
}

void Capacity::sort_in(FreeBySize& out, std::uint64_t start, std::uint64_t count) const {
  if (count == 0) return;
  const auto size = static_cast<std::size_t>(std::bit_width(count) - 1);
  ++out.extents[size];
  out.blocks[size] += count;
  out.all += count;
  const std::uint64_t first = round_up(start, inode_alignment(geometry_));
  if (first < start + count) {
    const std::uint64_t step = round_up(inode_unit(geometry_), inode_alignment(geometry_));
    const std::uint64_t room = start + count - first;
    out.units += room / step + (room % step >= inode_unit(geometry_) ? 1 : 0);
  }
}

const std::vector<std::uint32_t>& Capacity::own_of(std::uint32_t number) const {
  const auto [known, fresh] = own_.try_emplace(number);
  if (fresh) known->second = Group(place_, geometry_, number).own_blocks();
  return known->second;
}

Capacity::Clipped Capacity::clip(std::uint32_t group, std::uint64_t blocks) const {
  Clipped out;
  for (const FreeExtent& extent : groups_[group].free) {
    const std::uint64_t start = extent.start.value();
    if (start >= blocks) break;
    sort_in(out.by_size, start, std::min<std::uint64_t>(extent.count.value(), blocks - start));
  }
  const std::vector<std::uint32_t>& own = own_of(group);
  out.own_blocks = own.size();
  out.own_in_front =
      static_cast<std::uint64_t>(std::lower_bound(own.begin(), own.end(), blocks) - own.begin());
  return out;
}

// How many free extents are used up for so many blocks, when the long ones come first and no group
// gives more than it may.
std::uint64_t Capacity::pieces_for(std::vector<std::pair<const FreeBySize*, std::uint64_t>> groups,
                                   std::uint64_t blocks) const {
  std::uint64_t pieces = 0;
  for (std::size_t size = classes; size-- > 0 && blocks != 0;)
    for (auto& [free, usable] : groups) {
      const std::uint64_t taken = std::min({blocks, usable, free->blocks[size]});
      pieces += std::min(free->extents[size], ceil_div(taken, 1ULL << size));
      usable -= taken;
      blocks -= taken;
    }
  return pieces;
}

void Capacity::count_inodes(const Cut& cut, Needed& needed, std::uint64_t& units) const {
  const std::uint64_t in_unit = inodes_in_unit(geometry_);
  for (std::uint32_t group = cut.groups - 1; group < geometry_.groups(); ++group) {
    std::uint64_t last = UINT64_MAX;
    for (const InodeChunk& chunk : groups_[group].chunks) {
      if (group < cut.groups && !is_behind(geometry_, chunk, cut.kept)) continue;
      const unsigned count = inodes_in(geometry_, chunk);
      const std::uint64_t unit =
          in_unit == inodes_per_chunk ? chunk.first.value() : chunk.first.value() / in_unit;
      needed.inodes += count - chunk.free_count;
      if (count != chunk.free_count && unit != last) {
        ++units;
        last = unit;
      }
    }
  }
}

Cut Capacity::cut_at(std::uint64_t blocks) const {
  Cut cut = xfs::cut_at(geometry_, blocks);
  if (cut.groups == 0 || cut.blocks >= geometry_.blocks()) return cut;
  place_log(cut);
  keep_room(cut);
  return cut;
}

// A group that ends earlier must have free what its guest sets aside in it: where it has not, what
// lies at its end moves too.
void Capacity::keep_room(Cut& cut) const {
  const std::uint32_t last = cut.groups - 1;
  if (cut.last_group >= geometry_.blocks_of(last)) return;
  const std::vector<std::uint32_t>& own = own_of(last);
  const std::uint64_t base = geometry_.group_blocks() * last;
  const std::uint64_t log_end = cut.log.line >= base ? cut.log.end() - base : 0;
  const std::uint64_t in_log = log_end == 0 ? 0 : free_in(cut.log);
  const std::uint64_t aside = set_aside(geometry_, groups_[last].space, cut, last);
  const auto holds = [&](std::uint64_t kept) {
    const auto trees =
        static_cast<std::uint64_t>(own.end() - std::lower_bound(own.begin(), own.end(), kept));
    return free_before(last, kept) - in_log + (cut.last_group - kept) >= aside + trees;
  };
  std::uint64_t low = std::max(log_end, geometry_.blocks_of_empty_group());
  std::uint64_t high = cut.last_group;
  if (low >= high || holds(high) || !holds(low)) return;
  while (high - low > 1) {
    const std::uint64_t middle = low + (high - low) / 2;
    (holds(middle) ? low : high) = middle;
  }
  cut.kept = low;
}

Needed Capacity::needed(const Cut& cut) const {
  Needed out;
  const std::uint32_t last = cut.groups - 1;
  const bool shortened = cut.kept < geometry_.blocks_of(last);
  Clipped clipped;
  if (shortened) clipped = clip(last, cut.kept);

  std::vector<FreeBySize> free_of(cut.groups);
  std::vector<std::pair<const FreeBySize*, std::uint64_t>> groups;
  std::uint64_t units_there = 0;
  std::uint64_t short_of = 0;  // what is to be set aside
  for (std::uint32_t group = 0; group < cut.groups; ++group) {
    const bool clips = shortened && group == last;
    FreeBySize& free = free_of[group];
    free = clips ? clipped.by_size : groups_[group].by_size;
    if (cut.log.count != 0 && cut.log.line / geometry_.group_blocks() == group)
      free = without_log(cut, group);
    // What becomes free of a group holds its trees that lie there, written anew.
    const std::uint64_t trees = clips ? clipped.own_blocks - clipped.own_in_front : 0;
    const std::uint64_t all = free.all + (clips ? cut.last_group - cut.kept : 0);
    const std::uint64_t aside = set_aside(geometry_, groups_[group].space, cut, group) + trees;
    if (clips && all < aside)
      out.obstacle = fmt::format("group {}, which has too little room for its trees then", group);
    const std::uint64_t usable = std::min(free.all, all - std::min(all, aside));
    short_of += aside - std::min(aside, all);
    groups.emplace_back(&free, usable);
    out.usable += usable;
    units_there += std::min(free.units, usable / inode_unit(geometry_));
  }

  if (shortened)
    out.moving += geometry_.blocks_of(last) - cut.kept -
                  (groups_[last].by_size.all - clipped.by_size.all) -
                  (clipped.own_blocks - clipped.own_in_front);
  for (std::uint32_t group = cut.groups; group < geometry_.groups(); ++group)
    out.moving +=
        geometry_.blocks_of(group) - groups_[group].by_size.all - groups_[group].own_blocks;
  if (log_leaves(cut)) {
    // Its own place is settled; what it drives away moves too.
    const std::uint64_t log = geometry_.superblock().log_blocks.value();
    const std::uint64_t start =
        geometry_.block_at(geometry_.superblock().log_start.value()) / geometry_.block_size();
    out.moving -= std::min(out.moving, start + log - std::max(start, cut.kept_end()));
    if (cut.log.count == 0)
      out.obstacle = fmt::format(
          "its log, for which there are no {} blocks in a row without inodes or trees in front of "
          "that",
          grouped(log));
    else
      out.moving += log - free_in(cut.log);
  }

  std::uint64_t units = 0;
  count_inodes(cut, out, units);
  if (units > units_there)
    out.obstacle = fmt::format(
        "{} of inodes, for which there is no aligned free room in front of that (only for {})",
        counted(units, "record"), grouped(units_there));

  // A free extent that ends within a file's extent makes two of that; each may cost the file a
  // block of its tree, and now and then one more above. What inodes leave of one is another.
  for (int i = 0; i < 4; ++i)
    out.more = 2 * (2 * pieces_for(groups, out.moving + out.more) + cut.groups) + 8;
  if (out.moving == 0 && units == 0) out.more = 0;
  // What one group has too little of its guest takes from all of them.
  const std::uint64_t all = out.moving + out.more + short_of;
  out.missing = all > out.usable ? all - out.usable : 0;
  return out;
}

std::optional<Cut> Capacity::best_cut(std::uint64_t blocks) const {
  // Drivers and checkers compare groups with one another: one that had two keeps two.
  const std::uint32_t least = std::min(2U, geometry_.groups());
  const Cut cut = cut_at(blocks);
  if (cut.groups < least) return std::nullopt;
  if (cut.blocks >= geometry_.blocks() || needed(cut).fits()) return cut;
  // The last group may be too short for itself, where all would fit in front of it.
  if (cut.groups == least) return std::nullopt;
  const Cut shorter = cut_at(geometry_.group_blocks() * (cut.groups - 1));
  if (needed(shorter).fits()) return shorter;
  return std::nullopt;
}

std::pair<Cut, std::string> Capacity::floor() const {
  std::uint64_t low = 0;                    // too few
  std::uint64_t high = geometry_.blocks();  // enough
  while (high - low > 1) {
    const std::uint64_t middle = low + (high - low) / 2;
    (best_cut(middle) ? high : low) = middle;
  }
  const Cut found = best_cut(high).value_or(cut_at(geometry_.blocks()));
  const std::uint32_t least = std::min(2U, geometry_.groups());
  const Cut less = cut_at(found.blocks - 1);
  if (less.groups < least) return {found, "two allocation groups, which it has to keep"};
  const Needed needed = this->needed(less);
  if (!needed.obstacle.empty()) return {found, needed.obstacle};
  return {found, fmt::format("{} in use behind that, and what the guest sets aside in each group",
                             counted(needed.moving, "block"))};
}

}  // namespace jh::xfs
