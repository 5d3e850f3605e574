// Planning the way up: what a disk gains, and which place gets it.
#pragma once

#include "core/plan/plan.h"

namespace jh {

/// Works out the growth. Throws refused, unsupported, damaged or usage errors: blockers, amounts
/// that cannot be met, several possible targets (with commands to paste).
Plan plan_growth(const Guest& guest, const GrowRequest& request);

}  // namespace jh
