// The table of kinds of layers that are no filesystems.
#pragma once

#include <vector>

#include "core/layer/layer_kind.h"

namespace jh {

/// All kinds, in the order in which a place is asked what stands on it; before filesystems are.
const std::vector<const LayerKind*>& layer_kinds();

}  // namespace jh
