// Planning the way down: from the inside out, each layer no smaller than what it holds.
#pragma once

#include "core/change/floors.h"
#include "core/change/plan.h"

namespace jh {

/// Works out the shrinking. Throws refused, unsupported, damaged or usage errors: blockers, what
/// stands in the way with the smallest size that would do, several possible targets.
Plan plan_shrink(const Guest& guest, const ShrinkRequest& request);

/// A command line that repeats the request with one more thing to take, for messages.
std::string command_with(const ShrinkRequest& request, const std::string& take);

}  // namespace jh
