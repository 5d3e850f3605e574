// Commands that repeat a request with a change, for messages.
#pragma once

#include "core/base/advice.h"
#include "core/plan/request.h"

namespace jh {

/// With another target; empty: as it is.
Suggestion command_with(const GrowRequest& request, const std::string& give);
/// With one more thing to take; empty: as it is.
Suggestion command_with(const ShrinkRequest& request, const std::string& take);

}  // namespace jh
