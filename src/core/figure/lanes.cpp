#include "core/figure/lanes.h"

#include <algorithm>
#include <cmath>

namespace jh {

std::string fitted(const std::string& text, double width, double size, bool bold,
                   const Measure& measure) {
  if (measure(text, size, bold) <= width) return text;
  std::string cut = text;
  while (!cut.empty()) {
    // Whole characters: bytes that continue one go with it.
    while (!cut.empty() && (static_cast<unsigned char>(cut.back()) & 0xC0) == 0x80) cut.pop_back();
    if (!cut.empty()) cut.pop_back();
    if (!cut.empty() && measure(cut + "…", size, bold) <= width) return cut + "…";
  }
  return {};
}

namespace {

constexpr double gap = 8;
constexpr double beside = 4;  // between a rule and its text

}  // namespace

// The first callouts have their texts to the right of their rules, the others to the left, in lanes
// further out: so that no rule runs through a text, the rightmost of the first, and the leftmost of
// the others, stand nearest to the edge.
Lanes::Lanes(const std::vector<Callout>& callouts, double left, double right,
             const Measure& measure) {
  std::vector<Callout> sorted = callouts;
  std::stable_sort(sorted.begin(), sorted.end(),
                   [](const Callout& a, const Callout& b) { return a.x < b.x; });
  const std::size_t count = sorted.size();
  const auto space = [&](std::size_t i, std::size_t split) {
    const double until = split < count ? sorted[split].x - gap : right;
    return i < split ? until - sorted[i].x - beside : sorted[i].x - beside - left;
  };
  std::vector<double> widths;
  for (const Callout& each : sorted) widths.push_back(measure(each.text, text_size, false));
  std::size_t split = count;
  double least_cut = -1;
  for (std::size_t candidate = count + 1; candidate-- > 0;) {
    double cut = 0;
    for (std::size_t i = 0; i < count; ++i) cut += std::max(0.0, widths[i] - space(i, candidate));
    if (least_cut < 0 || cut < least_cut) {
      least_cut = cut;
      split = candidate;
    }
  }
  std::vector<double> reach;  // by lane: the nearest rule that runs through it, or ends in it
  std::size_t lowest = 0;
  const auto place = [&](std::size_t i) {
    Placed one;
    one.x = sorted[i].x;
    one.text = fitted(sorted[i].text, space(i, split), text_size, false, measure);
    one.width = measure(one.text, text_size, false);
    one.left = i < split ? one.x + beside : one.x - beside - one.width;
    const double needs = beside + one.width + gap;
    one.lane = lowest;
    while (one.lane < reach.size() && std::abs(reach[one.lane] - one.x) < needs) ++one.lane;
    if (one.lane >= reach.size()) reach.resize(one.lane + 1, i < split ? 1e9 : -1e9);
    for (std::size_t lane = lowest; lane <= one.lane; ++lane) reach[lane] = one.x;
    rows_ = std::max(rows_, one.lane + 1);
    placed_.push_back(std::move(one));
  };
  for (std::size_t i = split; i-- > 0;) place(i);
  lowest = rows_;
  reach.resize(lowest);
  for (std::size_t i = split; i < count; ++i) place(i);
}

void Lanes::draw(Scene& scene, double edge, bool upward) const {
  for (const Placed& one : placed_) {
    const double from_edge = 4 + static_cast<double>(one.lane) * row;
    const double top = upward ? edge - from_edge - row : edge + from_edge;
    const double middle = top + row / 2;
    scene.shapes.emplace_back(Rule{one.x, edge, one.x, middle});
    const bool to_the_right = one.left > one.x;
    scene.shapes.emplace_back(Rule{one.x, middle, to_the_right ? one.x + 3 : one.x - 3, middle});
    scene.shapes.emplace_back(
        Label{{one.left, top + 1, one.width, row - 2}, one.text, text_size, false, Ink::text});
  }
}

}  // namespace jh
