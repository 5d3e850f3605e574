// What a partition, or a disk without a table, gets of the room behind it.
#pragma once

#include "core/plan/grow_group.h"

namespace jh {

/// A partition, or a disk without a table, that is to become larger with what is in it.
struct LayerTarget {
  const Layer* layer = nullptr;
  Amount amount;
  Bytes content;  // resolved: what is in it becomes so large, or as large as its place
  bool carries_layers = false;  // it is for a disk that is kept in it, and was not asked for
};

/// How much larger what is in the layer could become.
Bytes room_for(const GrowContext& scene, const Layer& layer);

/// Settles the target's amount, and promises it the room on its disk. `shared_room`: what a
/// percentage counts from. Throws refused or usage errors: there is less, or nothing is asked for.
void resolve_layer(GrowContext& scene, LayerTarget& target, Bytes shared_room);

}  // namespace jh
