// Lanes: names for what is too narrow to carry its own, in rows beside it, with a rule to each. No
// two of them touch, whatever their number.
#pragma once

#include <string>
#include <vector>

#include "core/figure/scene.h"

namespace jh {

struct Callout {
  double x = 0;  // what it speaks of
  std::string text;
};

class Lanes {
 public:
  static constexpr double row = 15;  // height of one
  static constexpr double text_size = 11;

  /// Finds places between `left` and `right`. Texts that are wider than that are cut.
  Lanes(const std::vector<Callout>& callouts, double left, double right, const Measure& measure);
  double height() const { return static_cast<double>(rows_) * row + (rows_ == 0 ? 0 : 4); }
  /// Adds them: above `edge` when `upward`, below it otherwise.
  void draw(Scene& scene, double edge, bool upward) const;

 private:
  struct Placed {
    double x = 0;
    double left = 0;
    double width = 0;
    std::size_t lane = 0;  // 0: next to the edge
    std::string text;
  };
  std::vector<Placed> placed_;
  std::size_t rows_ = 0;
};

/// The text, cut with an ellipsis so that it is at most `width` wide; empty when not even that
/// fits.
std::string fitted(const std::string& text, double width, double size, bool bold,
                   const Measure& measure);

}  // namespace jh
