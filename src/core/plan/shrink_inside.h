// The steps inside a place that becomes smaller: its filesystem, its swap area; and the volumes and
// physical volumes of a group.
#pragma once

#include <map>

#include "core/plan/floors.h"
#include "core/plan/plan.h"

namespace jh {

/// Counts what a plan writes, by how it is written.
struct WriteCost {
  std::uint64_t through_ledger = 0;  // bytes that it keeps, old and new
  std::uint64_t direct = 0;          // bytes that are copied to free places
};

/// Adds the steps by which the content of `place` comes to fit into `size`. Throws what stands in
/// the way.
void plan_smaller_content(Plan& plan, WriteCost& cost, const Guest& guest, const Layer& layer,
                          Bytes size);

/// What becomes of one group: some of its volumes and physical volumes become smaller, some of the
/// latter leave.
struct GroupChange {
  const VolumeGroup* group = nullptr;
  std::map<std::size_t, std::uint64_t> volumes;  // volume → extents it keeps
  std::map<std::size_t, Bytes> devices;          // physical volume → size its place will have
  std::vector<std::size_t> leaving;              // physical volumes
};

/// Adds its steps. Where the volumes would not fit any more, one that can be meant becomes smaller;
/// with several that could, throws refused with commands to paste.
void plan_smaller_group(Plan& plan, WriteCost& cost, const Guest& guest, Floors& floors,
                        const ShrinkRequest& request, GroupChange change);

}  // namespace jh
