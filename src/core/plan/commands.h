// Command lines that repeat a request with a change, for messages.
#pragma once

#include "core/plan/request.h"

namespace jh {

/// With another target; empty: as it is.
std::string command_with(const GrowRequest& request, const std::string& give);
/// With one more thing to take; empty: as it is.
std::string command_with(const ShrinkRequest& request, const std::string& take);

}  // namespace jh
