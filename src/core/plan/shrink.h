// Planning the way down: from the inside out, each layer no smaller than what it holds.
#pragma once

#include "core/plan/plan.h"

namespace jh {

/// Works out the shrinking. Throws refused, unsupported, damaged or usage errors: blockers, what
/// stands in the way with the smallest size that would do, several possible targets.
Plan plan_shrink(const Guest& guest, const ShrinkRequest& request);

}  // namespace jh
