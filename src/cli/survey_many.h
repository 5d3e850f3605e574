// survey --each: many guests in one call.
#pragma once

#include "cli/options.h"

namespace jh::cli {

/// A line on each image that the paths lead to, as table, JSON or CSV; what is no image is counted.
int survey_each(CommandRun& run, const Parsed& parsed);

}  // namespace jh::cli
