// The legend of a figure: what its patterns stand for.
#pragma once

#include <set>

#include "core/figure/scene.h"

namespace jh {

/// Adds it below `y`, and sets the scene's height to where it ends.
void add_legend(Scene& scene, double x, double y, double width, const std::set<Fill>& fills,
                bool stretched, const Measure& measure);

}  // namespace jh
