#include "core/fs/xfs/cut.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "core/base/sizes.h"

namespace jh::xfs {
namespace {

// Blocks of a tree with so many records, when no block of it is more than half full.
std::uint64_t largest_tree(const Geometry& geometry, Tree tree, std::uint64_t records) {
  std::uint64_t level =
      ceil_div(records, std::max<std::uint64_t>(1, most_records(geometry, tree) / 2));
  std::uint64_t blocks = level;
  while (level > 1) {
    level = ceil_div(level, std::max<std::uint64_t>(2, most_keys(geometry, tree) / 2));
    blocks += level;
  }
  return blocks;
}

}  // namespace

Cut cut_at(const Geometry& geometry, std::uint64_t blocks) {
  const std::uint64_t each = geometry.group_blocks();
  blocks = std::min(blocks, geometry.blocks());
  if (const std::uint64_t rest = blocks % each; rest != 0 && rest < least_group) blocks -= rest;
  const std::uint64_t groups = ceil_div(blocks, each);
  return {blocks, static_cast<std::uint32_t>(groups),
          groups == 0 ? 0 : blocks - each * (groups - 1)};
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

std::uint32_t first_group_for_log(const Geometry& geometry, std::uint32_t groups) {
  const bool is_in_first = geometry.group_of(geometry.superblock().log_start.value()) == 0;
  return is_in_first || groups == 1 ? 0 : 1;
}

std::uint64_t set_aside(const Geometry& geometry, std::uint64_t group_blocks) {
  std::uint64_t blocks = 24;
  if (geometry.has(ro_compatible::shared_extents))
    blocks += largest_tree(geometry, Tree::shared, group_blocks);
  if (geometry.has(ro_compatible::reverse_map))
    blocks += std::max(group_blocks / 100, largest_tree(geometry, Tree::reverse_map, group_blocks));
  if (geometry.has(ro_compatible::free_inode_tree))
    blocks += largest_tree(
        geometry, Tree::free_inodes,
        (group_blocks << geometry.superblock().inodes_per_block_log) / inodes_per_chunk);
  return blocks;
}

Capacity::Capacity(Store& place, const Geometry& geometry) : place_(place), geometry_(geometry) {
  groups_.resize(geometry.groups());
  for (std::uint32_t number = 0; number < geometry.groups(); ++number) {
    GroupFacts& facts = groups_[number];
    const Group group(place, geometry, number);
    facts.free = group.free_extents();
    for (const FreeExtent& extent : facts.free)
      sort_in(facts.by_size, extent.start.value(), extent.count.value());
    const FreeSpaceHeader& space = group.free_space();
    facts.own_blocks = geometry.header_blocks() + space.list_count.value() +
                       space.tree_blocks.value() + 2 + space.shared_blocks.value();
    if (group.has(Tree::reverse_map)) ++facts.own_blocks;
    facts.chunks = group.chunks();
    for (const Tree tree : {Tree::inodes, Tree::free_inodes})
      if (group.has(tree))
        group.walk(
            tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
            [&](std::uint32_t, unsigned) { ++facts.own_blocks; });
  }
}

void Capacity::sort_in(FreeBySize& out, std::uint64_t start, std::uint64_t count) const {
  if (count == 0) return;
  const auto size = static_cast<std::size_t>(std::bit_width(count) - 1);
  ++out.extents[size];
  out.blocks[size] += count;
  out.all += count;
  out.longest = std::max(out.longest, count);
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
      if (group < cut.groups && !is_behind(geometry_, chunk, cut.last_group)) continue;
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

Needed Capacity::needed(const Cut& cut) const {
  Needed out;
  const std::uint32_t last = cut.groups - 1;
  const bool shortened = cut.last_group < geometry_.blocks_of(last);
  Clipped clipped;
  if (shortened) clipped = clip(last, cut.last_group);

  std::vector<std::pair<const FreeBySize*, std::uint64_t>> groups;
  std::uint64_t units_there = 0;
  std::uint64_t longest = 0;
  for (std::uint32_t group = 0; group < cut.groups; ++group) {
    const bool clips = shortened && group == last;
    const FreeBySize& free = clips ? clipped.by_size : groups_[group].by_size;
    // Trees that lie behind the end of their group are written anew in front of it.
    const std::uint64_t trees = clips ? clipped.own_blocks - clipped.own_in_front : 0;
    const std::uint64_t aside = set_aside(geometry_, cut.blocks_of(geometry_, group)) + trees;
    if (clips && free.all < trees + 8)
      out.obstacle =
          fmt::format("the trees of group {}, which have no room in front of that", group);
    const std::uint64_t usable = free.all - std::min(free.all, aside);
    groups.emplace_back(&free, usable);
    out.usable += usable;
    if (usable >= inode_unit(geometry_)) units_there += free.units;
    if (group >= first_group_for_log(geometry_, cut.groups))
      longest = std::max(longest, std::min(free.longest, usable));
  }

  if (shortened)
    out.moving += geometry_.blocks_of(last) - cut.last_group -
                  (groups_[last].by_size.all - clipped.by_size.all) -
                  (clipped.own_blocks - clipped.own_in_front);
  for (std::uint32_t group = cut.groups; group < geometry_.groups(); ++group)
    out.moving +=
        geometry_.blocks_of(group) - groups_[group].by_size.all - groups_[group].own_blocks;

  std::uint64_t units = 0;
  count_inodes(cut, out, units);
  const std::uint64_t log = geometry_.superblock().log_start.value();
  const std::uint64_t log_blocks = geometry_.superblock().log_blocks.value();
  const bool log_moves = geometry_.block_at(log) / geometry_.block_size() + log_blocks > cut.blocks;
  if (log_moves) {
    if (longest < log_blocks)
      out.obstacle = fmt::format(
          "its log, which needs {} free blocks in a row in front of that (there are {})",
          grouped(log_blocks), grouped(longest));
    units_there -= std::min(units_there, ceil_div(log_blocks, inode_unit(geometry_)) + 2);
  }
  if (units > units_there)
    out.obstacle = fmt::format(
        "{} of inodes, for which there is no aligned free room in front of that (only for {})",
        counted(units, "record"), grouped(units_there));

  // A free extent that ends within a file's extent makes two of that; each may cost the file a
  // block of its tree, and now and then one more above. What inodes leave of one is another.
  for (int i = 0; i < 4; ++i)
    out.more = 2 * (2 * pieces_for(groups, out.moving + out.more) + cut.groups) + 8;
  if (out.moving == 0 && units == 0 && !log_moves) out.more = 0;
  const std::uint64_t all = out.moving + out.more;
  out.missing = all > out.usable ? all - out.usable : 0;
  return out;
}

std::optional<Cut> Capacity::best_cut(std::uint64_t blocks) const {
  // Drivers and checkers compare groups with one another: one that had two keeps two.
  const std::uint32_t least = std::min(2U, geometry_.groups());
  const Cut cut = cut_at(geometry_, blocks);
  if (cut.groups < least) return std::nullopt;
  if (cut.blocks >= geometry_.blocks() || needed(cut).fits()) return cut;
  // The last group may be too short for itself, where all would fit in front of it.
  const Cut shorter = cut_at(geometry_, geometry_.group_blocks() * (cut.groups - 1));
  if (cut.groups > least && needed(shorter).fits()) return shorter;
  return std::nullopt;
}

std::pair<Cut, std::string> Capacity::floor() const {
  std::uint64_t low = 0;                    // too few
  std::uint64_t high = geometry_.blocks();  // enough
  while (high - low > 1) {
    const std::uint64_t middle = low + (high - low) / 2;
    (best_cut(middle) ? high : low) = middle;
  }
  const Cut found = best_cut(high).value_or(cut_at(geometry_, geometry_.blocks()));
  const std::uint32_t least = std::min(2U, geometry_.groups());
  const Cut less = cut_at(geometry_, found.blocks - 1);
  if (less.groups < least) return {found, "two allocation groups, which it has to keep"};
  const Needed needed = this->needed(less);
  if (!needed.obstacle.empty()) return {found, needed.obstacle};
  return {found, fmt::format("{} in use behind that, and what the guest sets aside in each group",
                             counted(needed.moving, "block"))};
}

}  // namespace jh::xfs
