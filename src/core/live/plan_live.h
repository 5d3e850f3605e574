// A plan for the system that this runs on: what `grow` would do, and what its kernel must be told.
#pragma once

#include "core/live/running_system.h"

namespace jh::live {

/// Every check of every step is made here: what is begun can be finished. Throws refused,
/// unsupported, and what plan_growth throws.
Plan plan_live(const RunningSystem& system, const GrowRequest& request);

/// Room that nothing uses: what the kernel does not know yet of what stands on disk, in words.
std::vector<std::string> not_told(const RunningSystem& system);

}  // namespace jh::live
