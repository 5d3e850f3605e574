#include "core/base/ranges.h"

#include <iterator>

namespace jh {

void add_range(Ranges& ranges, std::uint64_t start, std::uint64_t end) {
  auto next = ranges.upper_bound(start);
  if (next != ranges.begin()) {
    const auto before = std::prev(next);
    if (before->second >= start) {
      start = before->first;
      end = std::max(end, before->second);
      next = ranges.erase(before);
    }
  }
  while (next != ranges.end() && next->first <= end) {
    end = std::max(end, next->second);
    next = ranges.erase(next);
  }
  ranges[start] = end;
}

void remove_range(Ranges& ranges, std::uint64_t start, std::uint64_t end) {
  auto range = ranges.upper_bound(start);
  if (range != ranges.begin() && std::prev(range)->second > start) --range;
  while (range != ranges.end() && range->first < end) {
    const auto [from, to] = *range;
    range = ranges.erase(range);
    if (from < start) ranges.emplace_hint(range, from, start);
    if (to > end) {
      ranges.emplace_hint(range, end, to);
      break;
    }
  }
}

bool overlaps(const Ranges& ranges, std::uint64_t start, std::uint64_t end) {
  auto range = ranges.upper_bound(start);
  if (range != ranges.begin() && std::prev(range)->second > start) return true;
  return range != ranges.end() && range->first < end;
}

std::uint64_t first_inside(const Ranges& ranges, std::uint64_t start, std::uint64_t end) {
  auto range = ranges.upper_bound(start);
  if (range != ranges.begin() && std::prev(range)->second > start) return std::min(start, end);
  return range == ranges.end() ? end : std::min(range->first, end);
}

std::uint64_t first_outside(const Ranges& ranges, std::uint64_t start, std::uint64_t end) {
  // They do not touch: only the one that `start` is in counts.
  const auto next = ranges.upper_bound(start);
  const bool inside = next != ranges.begin() && std::prev(next)->second > start;
  return inside ? std::min(std::prev(next)->second, end) : start;
}

}  // namespace jh
