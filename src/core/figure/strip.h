// Strip: where bytes of a disk stand in a figure. True to scale, but for what would be too small to
// be seen; several strips, before and after, share one scale, so that what did not move stands
// still.
#pragma once

#include <cstdint>
#include <vector>

namespace jh {

struct ByteRange {
  std::uint64_t start = 0;
  std::uint64_t end = 0;
};

class StripScale {
 public:
  /// `spans`: what must be seen, each at least `least` wide; [0, size) takes `width`.
  StripScale(std::uint64_t size, const std::vector<ByteRange>& spans, double width, double least);
  /// Ascending; linear between the boundaries of spans.
  double at(std::uint64_t offset) const;
  /// Whether anything is drawn wider than it is.
  bool is_stretched() const { return stretched_; }

 private:
  std::vector<std::uint64_t> marks_;
  std::vector<double> layers_;
  bool stretched_ = false;
};

}  // namespace jh
