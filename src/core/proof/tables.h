// Are the partition tables what the plan says, and nothing else?
#pragma once

#include "core/plan/plan.h"

namespace jh {

/// Throws damaged, naming what is not as planned. Disks that are made by the change have one
/// partition.
void check_tables(const Guest& before, const Guest& after, const Plan& plan);

}  // namespace jh
