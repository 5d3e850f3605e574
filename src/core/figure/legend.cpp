#include "core/figure/legend.h"

#include "core/base/words.h"

namespace jh {
namespace {

const char* word_for(Fill fill) {
  return word_of<Fill::disk>(fill, "", "used by files", "free inside", "swap", "physical volume",
                             "encrypted", "not known", "empty", "room that nothing uses",
                             "free inside, but kept", "the image's own tables",
                             "holes: take no room", "given back to the host", "");
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
