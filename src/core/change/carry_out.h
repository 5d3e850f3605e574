// From a plan to a sealed change.
#pragma once

#include <functional>

#include "core/base/evidence.h"
#include "core/base/progress.h"
#include "core/staged/file_set.h"
#include "core/store/host.h"

namespace jh {

struct ChangeResult {
  std::uint64_t written_directly = 0;  // bytes
  std::uint64_t moved_by_sharing = 0;  // bytes that use the blocks of the host they always had
  std::uint64_t ledger_bytes = 0;
  EvidenceList evidence;  // what the proof has looked at
};

/// Refuses (nothing changed) when the host has no room for what the plan writes. What moves needs
/// none where the host shares blocks, and `sharing` lets it.
void check_host_room(Host& host, const Plan& plan, Sharing sharing);

/// Called between the steps and the proof: for tests, which do damage there.
using BeforeProof = std::function<void(FileSet& files)>;

/// Carries the plan out on a stage, proves the result and seals it. `before` is the guest the plan
/// was made from. Any failure before the commit leaves the images as they were.
ChangeResult carry_out(Host& host, const Guest& before, const Plan& plan,
                       const ChangeOptions& request, Progress& progress,
                       const BeforeProof& before_proof = {});

}  // namespace jh
