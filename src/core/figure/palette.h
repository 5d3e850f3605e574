// Palette: colours and patterns. Each fill differs from the others in its pattern or in how bright
// it is, so that it is told from them in grey, too, and by those who see few colours.
#pragma once

#include "core/figure/scene.h"

namespace jh {

struct Color {
  double red = 0;
  double green = 0;
  double blue = 0;
};

enum class Pattern { plain, slanted, level, upright, crossed, dotted };

struct Paint {
  Color color;
  Pattern pattern = Pattern::plain;
};

struct Palette {
  Color ground;
  Color text;
  Color quiet;
  Color line;
  Paint (*paint)(Fill fill) = nullptr;
};

/// On paper and light screens, and on dark ones.
const Palette& light_palette();
const Palette& dark_palette();

/// How bright a colour is (WCAG 2.1, "relative luminance"), 0 to 1.
double luminance(const Color& color);
/// Contrast of two colours, 1 to 21.
double contrast(const Color& a, const Color& b);

}  // namespace jh
