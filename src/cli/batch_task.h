// One guest of a work order: planned, and carried out so that a second run does nothing twice.
#pragma once

#include "cli/command_run.h"
#include "core/order/state.h"

namespace jh::cli {

/// Both run in a process of their own, whose working folder is the order's; progress goes to the
/// pipe.

/// A dry run; what it finds is written to the guest's folder. Returns its exit status.
int plan_task(const Order& order, const Task& task, int progress_pipe);
/// Does what is left to do: recovers what was cut off, recognises what is done, does the rest.
/// Returns the exit status; the guest's state is written at each turn.
int perform_task(const Order& order, const Task& task, int progress_pipe);

}  // namespace jh::cli
