// Plans and results as text.
#pragma once

#include <vector>

#include "core/plan/plan.h"
#include "core/report/report.h"

namespace jh::cli {

void print_plan(const Plan& plan, const Guest& guest);
void print_changes(const std::vector<LayerChange>& changes);

}  // namespace jh::cli
