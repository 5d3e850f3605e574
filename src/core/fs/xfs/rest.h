// Bringing a filesystem to rest: what the guest's next start would do first.
#pragma once

#include <string>

#include "core/fs/xfs/replay.h"

namespace jh::xfs {

struct RestReport {
  ReplayReport replayed;
  bool deletions = false;  // of files that were open are left to the guest
  /// "3 transactions, 120 blocks, 5 inodes"
  std::string text() const;
};

/// Whether files that were deleted while open wait for the guest's start.
bool has_deletions(Store& place, const Geometry& geometry);

/// What its log says of a filesystem.
enum class Rest {
  clean,      // unmounted
  deletions,  // nothing to replay; files that were deleted while open wait for the guest's start
  dirty,
};
Rest rest_of(Store& place, const Geometry& geometry);
/// Replays the log, sets the totals right, and says so in the log. Throws unsupported (what only
/// the guest can finish), damaged.
RestReport bring_to_rest(Store& place);

}  // namespace jh::xfs
