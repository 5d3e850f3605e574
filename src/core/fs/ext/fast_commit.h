// Fast commits: small records behind the journal's log that say what became of a file since the
// last full commit.
#pragma once

#include "core/fs/ext/journal.h"

namespace jh::ext {

/// Replays those that belong after the transaction before `tid`; returns how many commits.
/// Throws unsupported for a record that juneheath does not replay.
std::uint32_t replay_fast_commits(Store& store, Journal& journal, std::uint32_t tid);

}  // namespace jh::ext
