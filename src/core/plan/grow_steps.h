// The steps of a growth, once it is known who gets what.
#pragma once

#include "core/plan/grow_group.h"
#include "core/plan/grow_inner.h"

namespace jh {

/// A partition, or a disk without a table, that is to become larger with what is in it.
struct LayerTarget {
  const Layer* layer = nullptr;
  Amount amount;
  Bytes content;  // resolved: what is in it becomes so large, or as large as its place
  bool carries_layers = false;  // it is for a disk that is kept in it, and was not asked for
};

/// From the outside in: images, tables, what moves out of the way, partitions, groups, contents.
void add_growth_steps(GrowContext& scene, const std::vector<LayerTarget>& layers,
                      const std::vector<GroupGrowth>& groups, const InnerGrowth& inner);

}  // namespace jh
