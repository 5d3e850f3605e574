#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "core/base/printable.h"
#include "core/figure/lanes.h"
#include "core/figure/legend.h"
#include "core/figure/occupancy.h"

namespace jh {
namespace {

constexpr double border = 32;
constexpr double strip_height = 56;
constexpr double bar_height = 18;

class OccupancyFigure {
 public:
  OccupancyFigure(const Occupancy& before, const std::optional<Occupancy>& after,
                  const Measure& measure)
      : before_(before), after_(after), measure_(measure) {
    longest_ = std::max({before.length, after ? after->length : 0, std::uint64_t{1}});
  }

  Scene run() {
    const std::string name = printable(before_.image.substr(before_.image.rfind('/') + 1));
    scene_.title = name + ": what its file keeps" + (after_ ? ", before and after" : "");
    label(border, 18, scene_.title, 17, true, Ink::strong);
    y_ = 54;
    strip(before_, after_ ? "before" : "now", false);
    if (after_) strip(*after_, "after", true);
    std::set<Fill> fills;
    for (const auto& shape : scene_.shapes)
      if (const Box* box = std::get_if<Box>(&shape)) fills.insert(box->fill);
    y_ += 10;
    bars();
    add_legend(scene_, border, y_, scene_.width - 2 * border, fills, false, measure_);
    scene_.height += border / 2;
    return std::move(scene_);
  }

 private:
  double width() const { return scene_.width - 2 * border; }

  void label(double x, double y, const std::string& text, double size, bool bold, Ink ink) {
    const std::string shown = fitted(text, scene_.width - border - x, size, bold, measure_);
    scene_.shapes.emplace_back(
        Label{{x, y, measure_(shown, size, bold), size * 1.35}, shown, size, bold, ink});
  }

  // The file from its beginning to its end; in each column what is used stands at the bottom.
  void strip(const Occupancy& state, const std::string& when, bool shows_given_back) {
    const std::string words = fmt::format(
        "the file {}: {} long, {} on the host; {} of it kept for what is free inside", when,
        human(Bytes(state.length)), human(Bytes(state.host)), human(Bytes(state.idle)));
    label(border, y_, words, 12, false, Ink::text);
    scene_.description += words + ". ";
    y_ += 20;
    const double whole =
        width() * static_cast<double>(state.length) / static_cast<double>(longest_);
    scene_.shapes.emplace_back(Box{{border, y_, whole, strip_height}, Fill::hole, false});
    const double column = whole / static_cast<double>(state.bins.size());
    column_of(state, column, &OccupancyBin::tables, Fill::tables);
    column_of(state, column, &OccupancyBin::idle, Fill::kept);
    column_of(state, column, &OccupancyBin::used, Fill::files);
    for (const Rule& edge : {Rule{border, y_, border + whole, y_},
                             Rule{border, y_ + strip_height, border + whole, y_ + strip_height},
                             Rule{border, y_, border, y_ + strip_height},
                             Rule{border + whole, y_, border + whole, y_ + strip_height}})
      scene_.shapes.emplace_back(edge);
    if (shows_given_back && whole + 1 < width())
      scene_.shapes.emplace_back(
          Box{{border + whole, y_, width() - whole, strip_height}, Fill::gone, true});
    y_ += strip_height + 14;
  }

  // FileResolver of one height are one box.
  void column_of(const Occupancy& state, double column, double OccupancyBin::*share, Fill fill) {
    const auto below = [&](const OccupancyBin& bin) {
      if (share == &OccupancyBin::used) return 0.0;
      if (share == &OccupancyBin::idle) return bin.used;
      return bin.used + bin.idle;
    };
    for (std::size_t i = 0; i < state.bins.size();) {
      const double height = state.bins[i].*share;
      const double under = below(state.bins[i]);
      std::size_t end = i + 1;
      while (end < state.bins.size() && std::abs(state.bins[end].*share - height) < 0.01 &&
             std::abs(below(state.bins[end]) - under) < 0.01)
        ++end;
      if (height > 0.005)
        scene_.shapes.emplace_back(
            Box{{border + column * static_cast<double>(i), y_ + strip_height * (1 - under - height),
                 column * static_cast<double>(end - i), strip_height * height},
                fill,
                false});
      i = end;
    }
  }

  void bars() {
    std::uint64_t most = 1;
    for (const Occupancy* state : {&before_, after_ ? &*after_ : nullptr})
      if (state != nullptr)
        most = std::max({most, state->disk, state->length, state->host, state->used});
    const double left = border + 250;
    const double room = scene_.width - border - left - 110;
    const auto bar = [&](const std::string& what, std::uint64_t size, Fill fill) {
      label(border, y_ + 1, what, 12, false, Ink::text);
      const double wide =
          std::max(1.5, room * static_cast<double>(size) / static_cast<double>(most));
      scene_.shapes.emplace_back(Box{{left, y_, wide, bar_height}, fill, true});
      label(left + wide + 8, y_ + 1, human(Bytes(size)), 12, true, Ink::strong);
      scene_.description += fmt::format("{}: {}. ", what, human(Bytes(size)));
      y_ += bar_height + 6;
    };
    const auto both = [&](const std::string& what, std::uint64_t Occupancy::*size, Fill fill) {
      bar(what + (after_ ? ", before" : ""), before_.*size, fill);
      if (after_) bar(what + ", after", (*after_).*size, fill);
    };
    label(border, y_, "sizes compared", 13, true, Ink::strong);
    y_ += 24;
    bar("the disk that the guest sees", before_.disk, Fill::disk);
    both("length of the file", &Occupancy::length, Fill::empty);
    both("in use on the host", &Occupancy::host, Fill::device);
    both("used inside", &Occupancy::used, Fill::files);
    y_ += 10;
  }

  const Occupancy& before_;
  const std::optional<Occupancy>& after_;
  const Measure& measure_;
  std::uint64_t longest_ = 1;
  Scene scene_;
  double y_ = 0;
};

}  // namespace

Scene occupancy_scene(const Occupancy& before, const std::optional<Occupancy>& after,
                      const Measure& measure) {
  return OccupancyFigure(before, after, measure).run();
}

}  // namespace jh
