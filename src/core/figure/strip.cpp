#include "core/figure/strip.h"

#include <algorithm>

namespace jh {

StripScale::StripScale(std::uint64_t size, const std::vector<ByteRange>& spans, double width,
                       double least) {
  marks_ = {0, std::max<std::uint64_t>(size, 1)};
  for (const ByteRange& span : spans)
    for (const std::uint64_t mark : {span.start, span.end})
      if (mark < marks_[1]) marks_.push_back(mark);
  std::sort(marks_.begin(), marks_.end());
  marks_.erase(std::unique(marks_.begin(), marks_.end()), marks_.end());

  // Between two marks: at least what the spans need that are cut by no other mark. Of a span with
  // marks inside, each stretch takes its share.
  const std::size_t count = marks_.size() - 1;
  std::vector<double> needs(count, 0.0);
  const auto index = [&](std::uint64_t mark) {
    return static_cast<std::size_t>(
        std::lower_bound(marks_.begin(), marks_.end(), std::min(mark, marks_.back())) -
        marks_.begin());
  };
  for (const ByteRange& span : spans) {
    const std::size_t first = index(span.start);
    const std::size_t last = std::max(index(span.end), first);
    if (first == last) continue;
    const double share = least / static_cast<double>(last - first);
    for (std::size_t i = first; i < last; ++i) needs[i] = std::max(needs[i], share);
  }
  double wanted = 0;
  for (const double need : needs) wanted += need;
  if (wanted > width)
    for (double& need : needs) need *= width / wanted;

  // What is drawn at its least leaves less for the others, which may then fall below theirs.
  std::vector<bool> fixed(count, false);
  double scale = 0;
  while (true) {
    double left = width;
    double bytes = 0;
    for (std::size_t i = 0; i < count; ++i) {
      if (fixed[i])
        left -= needs[i];
      else
        bytes += static_cast<double>(marks_[i + 1] - marks_[i]);
    }
    scale = bytes > 0 ? std::max(left, 0.0) / bytes : 0;
    bool again = false;
    for (std::size_t i = 0; i < count; ++i)
      if (!fixed[i] && static_cast<double>(marks_[i + 1] - marks_[i]) * scale < needs[i]) {
        fixed[i] = true;
        stretched_ = true;
        again = true;
      }
    if (!again) break;
  }
  layers_ = {0};
  for (std::size_t i = 0; i < count; ++i)
    layers_.push_back(
        layers_.back() +
        (fixed[i] ? needs[i] : static_cast<double>(marks_[i + 1] - marks_[i]) * scale));
}

double StripScale::at(std::uint64_t offset) const {
  if (offset >= marks_.back()) return layers_.back();
  const auto next = std::upper_bound(marks_.begin(), marks_.end(), offset);
  const auto i = static_cast<std::size_t>(next - marks_.begin());
  const double part =
      static_cast<double>(offset - marks_[i - 1]) / static_cast<double>(marks_[i] - marks_[i - 1]);
  return layers_[i - 1] + part * (layers_[i] - layers_[i - 1]);
}

}  // namespace jh
