// Planning for volumes: how room reaches a volume group, and how its volumes share it.
#pragma once

#include "core/plan/plan.h"

namespace jh {

/// Whether the request is about a volume group: its targets are volumes or a physical volume, or no
/// target is named and only volumes can be meant.
bool gives_to_group(const Guest& guest, const GrowRequest& request);
Plan plan_group_growth(const Guest& guest, const GrowRequest& request);

}  // namespace jh
