// The system that this runs on: survey --live, grow --live.
#pragma once

#include "cli/options.h"
#include "core/plan/request.h"

namespace jh::cli {

/// Every layer of the running system, as kernel and disks together tell it.
int survey_live(CommandRun& run, const Parsed& parsed);
/// Shows the plan, asks, and carries it out. Understands --dry-run, --yes and --if-room.
int grow_live(CommandRun& run, const Parsed& parsed, GrowRequest request);

}  // namespace jh::cli
