#include "core/fs/xfs/rest.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/sizes.h"
#include "core/fs/xfs/group.h"

namespace jh::xfs {
bool has_deletions(Store& place, const Geometry& geometry) {
  for (std::uint32_t number = 0; number < geometry.groups(); ++number) {
    const Group group(place, geometry, number);
    const auto& chains = group.inodes().unlinked;
    if (std::any_of(chains.begin(), chains.end(),
                    [](const Be32& first) { return first.value() != no_inode; }))
      return true;
  }
  return false;
}

namespace {

// While it is mounted the guest counts in memory; the groups know.
void set_totals(Store& place, const Geometry& geometry) {
  Totals totals;
  for (std::uint32_t number = 0; number < geometry.groups(); ++number)
    totals.add(Group(place, geometry, number));
  Superblock super = geometry.superblock();
  super.free_blocks = totals.free_blocks;
  super.inodes = totals.inodes;
  super.free_inodes = totals.free_inodes;
  super.log_incompatible = 0;
  place.write(0, superblock_sector(place, geometry, super));
}

}  // namespace

std::string RestReport::text() const {
  std::string text = counted(replayed.transactions, "transaction") + ", " +
                     counted(replayed.buffers, "block") + ", " + counted(replayed.inodes, "inode");
  if (deletions) text += "; files deleted while open are left to the guest's start";
  return text;
}

Rest rest_of(Store& place, const Geometry& geometry) {
  const Log log(place, geometry);
  if (log.at_rest()) return Rest::clean;
  return holds_items(log) ? Rest::dirty : Rest::deletions;
}

RestReport bring_to_rest(Store& place) {
  const Geometry before(place);
  Log log(place, before);
  RestReport report;
  if (log.at_rest() || !holds_items(log)) return report;
  report.replayed = replay(place, before, log);
  // The log may have held a larger filesystem.
  const Geometry geometry(place);
  set_totals(place, geometry);
  report.deletions = has_deletions(place, geometry);
  Log(place, geometry).close(!report.deletions);
  return report;
}

}  // namespace jh::xfs
