// A work order on Slurm: array jobs over a shared folder, one guest a task. Who runs where and
// when, and what is taken up again when a machine is lost, is the scheduler's; what has been done
// already is told by the guests' states and the images' ledgers.
#pragma once

#include <string>
#include <vector>

#include "core/order/order.h"

namespace jh::cli {

/// Submits what is not in the queue already, and returns when none of it is there any more. Ctrl-C
/// ends the waiting, not the jobs. `program`: as the machines find it. Throws refused, io.
void run_on_slurm(const Order& order, const std::vector<const Task*>& tasks,
                  const std::string& program, bool shows);

}  // namespace jh::cli
