// Are the volume groups what the plan says, and do their volumes hold what they held?
#pragma once

#include "core/base/progress.h"
#include "core/plan/plan.h"
#include "core/staged/content_check.h"

namespace jh {

/// Throws damaged, naming what is not as planned.
void check_groups(const Guest& before, const Guest& after, const Plan& plan, ContentCheck& contents,
                  Progress& progress);

/// Whether the volume's extents may lie elsewhere afterwards, within its group or with it.
bool moved_in_group(const Guest& before, const Plan& plan, const LayerId& volume);

/// Two places must hold the same, byte for byte, in these ranges.
void compare_layers(Store& before, const Layer* after, const Ranges& kept, ContentCheck& contents,
                    const std::string& where, Progress& progress);

}  // namespace jh
