// Proof: the staged result is looked at from disk, as if somebody else had written it.
#pragma once

#include "core/base/evidence.h"
#include "core/base/progress.h"
#include "core/staged/file_set.h"

namespace jh {

/// `before` is the guest as it was; the stages hold the result. Throws damaged, naming what was
/// found, when anything is not as the plan says; nothing may be sealed then. Returns what it has
/// looked at.
EvidenceList prove(const Guest& before, const Plan& plan, FileSet& files, ProofEffort effort,
                   Progress& progress);

/// Before a change: a filesystem that is damaged already is refused.
void check_sound(const Guest& guest, const Plan& plan, Progress& progress);

}  // namespace jh
