#include "core/fs/xfs/shrink.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/sizes.h"
#include "core/fs/xfs/group_rewrite.h"
#include "core/fs/xfs/owners.h"
#include "core/fs/xfs/quota.h"
#include "core/fs/xfs/rest.h"

namespace jh::xfs {
namespace {

// Inodes may take a share of the room; what there is of them stays allowed.
unsigned inodes_percent(const Geometry& geometry, std::uint64_t blocks) {
  const Superblock& super = geometry.superblock();
  const unsigned now = super.most_inodes_percent;
  if (now == 0) return 0;  // no limit
  const std::uint64_t used = ceil_div(super.inodes.value(), 1ULL << super.inodes_per_block_log);
  return std::max(
      now, static_cast<unsigned>(std::min<std::uint64_t>(100, ceil_div(used * 100, blocks))));
}

void write_superblocks(Store& place, const Geometry& geometry, const Shrinking& shrinking,
                       const Relocated& relocated) {
  Superblock super = geometry.superblock();
  super.blocks = shrinking.cut.blocks;
  super.groups = shrinking.cut.groups;
  super.most_inodes_percent = static_cast<std::uint8_t>(shrinking.inodes_percent);
  if (shrinking.cut.log.count != 0)
    super.log_start = Lines(geometry).number(shrinking.cut.log.line);
  const auto rename = [&](Be64& inode) {
    if (inode.value() != UINT64_MAX) inode = relocated.renumbered.of(inode.value());
  };
  for (Be64* inode :
       {&super.root_inode, &super.realtime_bitmap, &super.realtime_summary, &super.user_quota_inode,
        &super.group_quota_inode, &super.project_quota_inode})
    rename(*inode);
  const Geometry after = geometry.with(super);
  Totals totals;
  for (std::uint32_t number = 0; number < shrinking.cut.groups; ++number)
    totals.add(Group(place, after, number));
  super.free_blocks = totals.free_blocks;
  super.inodes = totals.inodes;
  super.free_inodes = totals.free_inodes;
  const Buffer sector = superblock_sector(place, geometry, super);
  for (std::uint32_t number = shrinking.cut.groups; number-- > 0;)
    place.write(geometry.group_at(number), sector);
}

[[noreturn]] void refuse_below(const Capacity& capacity, const Geometry& geometry,
                               std::uint64_t blocks, const Cut& floor, const std::string& reason) {
  const Cut asked = capacity.cut_at(blocks);
  const std::uint64_t missing = asked.groups == 0 ? 0 : capacity.needed(asked).missing;
  refuse(fmt::format("the filesystem cannot become as small as {}: it needs {} ({}){}",
                     human(Bytes(blocks * geometry.block_size())),
                     spelled_out(Bytes(floor.blocks * geometry.block_size())), reason,
                     missing == 0 ? std::string()
                                  : fmt::format("; for that size {} too much is in use",
                                                human(Bytes(missing * geometry.block_size())))),
         "XFS", "ask for no less than that, or remove something inside the guest first");
}

}  // namespace

Shrinking plan_shrinking(Store& place, const Geometry& geometry, std::uint64_t blocks) {
  if (has_deletions(place, geometry))
    throw Error(Status::refused, "files that were deleted while open wait to be removed", "XFS",
                "start the guest and shut it down properly, then run again")
        .with_reason(Reason::not_unmounted);
  const Capacity capacity(place, geometry);
  auto cut = capacity.best_cut(blocks);
  if (!cut) {
    const auto [floor, reason] = capacity.floor();
    // Where the log can go depends on where the end is: a smaller one may work.
    if (floor.blocks <= blocks && floor.blocks < geometry.blocks()) cut = floor;
    if (!cut) refuse_below(capacity, geometry, blocks, floor, reason);
  }
  Shrinking out;
  out.cut = *cut;
  out.needed = capacity.needed(*cut);
  const Superblock& super = geometry.superblock();
  out.inodes_percent = inodes_percent(geometry, cut->blocks);
  if (cut->blocks < blocks)
    out.notes.push_back(fmt::format("the last {} cannot be part of it and stay unused",
                                    human(Bytes((blocks - cut->blocks) * geometry.block_size()))));
  if (out.needed.inodes != 0)
    out.notes.push_back(fmt::format(
        "{} new numbers: what the guest keeps by inode number (file handles given out over the "
        "network, the index of a backup) has to be made anew",
        out.needed.inodes == 1 ? "1 inode gets a" : counted(out.needed.inodes, "inode") + " get"));
  if (out.inodes_percent != super.most_inodes_percent)
    out.notes.push_back(
        fmt::format("inodes may take {}% of it from now on, so that those it has are allowed",
                    out.inodes_percent));
  return out;
}

std::uint64_t bytes_to_write(const Geometry& geometry, const Shrinking& shrinking) {
  const std::uint64_t groups = shrinking.cut.groups;
  return (shrinking.needed.more + shrinking.cut.log.count + groups * 16) * geometry.block_size() +
         shrinking.needed.inodes * 2 * geometry.superblock().inode_size.value() +
         groups * 4 * geometry.sector_size();
}

void shrink(Store& place, const Geometry& geometry, const Shrinking& shrinking,
            Progress& progress) {
  const Cut& cut = shrinking.cut;
  Room room(place, geometry, cut);
  Relocated relocated = relocate(place, geometry, cut, room, progress);
  change_quota(
      place, geometry, [&](std::uint64_t inode) { return relocated.renumbered.of(inode); },
      relocated.more_blocks);
  const SharedByGroup shared = shared_after(place, geometry, cut, relocated.moves);
  progress.begin("rewriting allocation groups", 0);
  for (std::uint32_t number = 0; number < cut.groups; ++number) {
    const bool shortened = cut.blocks_of(geometry, number) != geometry.blocks_of(number);
    const bool renamed = geometry.has(ro_compatible::reverse_map) && !relocated.renumbered.empty();
    const auto found = shared.find(number);
    if (!shortened && !renamed && !room.took_from(number) && !relocated.groups.contains(number) &&
        found == shared.end())
      continue;
    rewrite_group(place, geometry, cut, number, room, relocated,
                  found == shared.end() ? std::vector<SharedExtent>{} : found->second);
    progress.advance(0);
  }
  write_superblocks(place, geometry, shrinking, relocated);
  progress.end();
}

}  // namespace jh::xfs
