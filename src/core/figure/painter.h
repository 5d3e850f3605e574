// Painter: a scene as SVG or PNG, by Cairo.
#pragma once

#include <string>

#include "core/figure/palette.h"
#include "core/figure/scene.h"

namespace jh {

/// Widths of text in the font that the painter uses.
Measure painter_measure();

/// A whole SVG document; it names and describes itself for those who do not see it.
std::string svg_of(const Scene& scene, const Palette& palette);
/// A PNG file's bytes; `scale`: pixels per unit.
std::string png_of(const Scene& scene, const Palette& palette, double scale = 1);

}  // namespace jh
