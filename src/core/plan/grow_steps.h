// The steps of a growth, once it is known who gets what.
#pragma once

#include "core/plan/grow_inner.h"
#include "core/plan/grow_layer.h"

namespace jh {

/// From the outside in: images, tables, what moves out of the way, partitions, groups, contents.
void add_growth_steps(GrowContext& scene, const std::vector<LayerTarget>& layers,
                      const std::vector<GroupGrowth>& groups, const InnerGrowth& inner);

}  // namespace jh
