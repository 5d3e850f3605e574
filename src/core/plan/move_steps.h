// The steps by which partitions come to begin elsewhere.
#pragma once

#include "core/plan/partition_layout.h"
#include "core/plan/plan.h"

namespace jh {

/// A partition goes where the layout says, with all that is in it; no longer than it is now. What
/// names it by its first sector is told as a note.
void plan_move(Plan& plan, const Guest& guest, const PartitionLayout::Member& member);

/// The extended partition is described anew, with the records of all logical ones.
void plan_extended(Plan& plan, const Guest& guest, std::size_t disk,
                   const PartitionLayout::Extended& extended);

}  // namespace jh
