#include "core/figure/legend.h"

namespace jh {
namespace {

const char* word_for(Fill fill) {
  switch (fill) {
    case Fill::files:
      return "used by files";
    case Fill::idle:
      return "free inside";
    case Fill::swap:
      return "swap";
    case Fill::device:
      return "physical volume";
    case Fill::encrypted:
      return "encrypted";
    case Fill::unknown:
      return "not known";
    case Fill::empty:
      return "empty";
    case Fill::room:
      return "room that nothing uses";
    case Fill::kept:
      return "free inside, but kept";
    case Fill::tables:
      return "the image's own tables";
    case Fill::hole:
      return "holes: take no room";
    case Fill::gone:
      return "given back to the host";
    case Fill::none:
    case Fill::disk:
      break;
  }
  return "";
}

}  // namespace

void add_legend(Scene& scene, double x, double y, double width, const std::set<Fill>& fills,
                bool stretched, const Measure& measure) {
  constexpr double size = 11;
  constexpr double row = 20;
  double at = x;
  double top = y;
  const auto step = [&](double wide) {
    if (at > x && at + wide > x + width) {
      at = x;
      top += row;
    }
  };
  for (const Fill fill : fills) {
    const std::string text = word_for(fill);
    if (text.empty()) continue;
    const double wide = measure(text, size, false);
    step(28 + wide);
    scene.shapes.emplace_back(Box{{at, top + 2, 22, 12}, fill, true});
    scene.shapes.emplace_back(Label{{at + 28, top + 1, wide, 15}, text, size, false, Ink::text});
    at += 28 + wide + 22;
  }
  const std::string scale =
      stretched ? "To scale, but for slivers: those are drawn as wide as can be seen."
                : "To scale.";
  const double wide = measure(scale, size, false);
  step(wide);
  scene.shapes.emplace_back(Label{{at, top + 1, wide, 15}, scale, size, false, Ink::quiet});
  scene.height = top + row;
}

}  // namespace jh
