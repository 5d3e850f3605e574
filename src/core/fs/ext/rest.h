// Bringing a filesystem to rest: what the guest's next start would do first.
#pragma once

#include <string>

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

struct RestReport {
  std::uint32_t transactions = 0;  // of the journal
  std::uint64_t blocks = 0;        // written home
  std::uint64_t revoked = 0;
  std::uint32_t fast_commits = 0;
  std::uint32_t orphans_removed = 0;
  std::uint32_t orphans_cut = 0;
  /// "3 transactions, 120 blocks; 1 orphaned file removed"
  std::string text() const;
};

/// Whether anything would be done. The superblock suffices to tell.
bool is_at_rest(const Superblock& super);
/// Replays the journal, works off orphans, sets the totals right, and marks the filesystem as
/// cleanly unmounted. Throws unsupported (external journal), damaged.
RestReport bring_to_rest(Store& store);

}  // namespace jh::ext
