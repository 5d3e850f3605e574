// Sets of bytes, as disjoint ranges.
#pragma once

#include <algorithm>
#include <cstdint>
#include <map>

namespace jh {

/// Ranges that neither overlap nor touch: start → end.
using Ranges = std::map<std::uint64_t, std::uint64_t>;

/// Adds a range, joining those that touch.
void add_range(Ranges& ranges, std::uint64_t start, std::uint64_t end);
/// Takes a range out of the set.
void remove_range(Ranges& ranges, std::uint64_t start, std::uint64_t end);
/// Whether any byte of [start, end) is in the set.
bool overlaps(const Ranges& ranges, std::uint64_t start, std::uint64_t end);

/// The first of [start, end) that is not in the set; `end`: all of them are.
std::uint64_t first_outside(const Ranges& ranges, std::uint64_t start, std::uint64_t end);

/// The first of [start, end) that is in the set; `end`: none of them is.
std::uint64_t first_inside(const Ranges& ranges, std::uint64_t start, std::uint64_t end);

/// Calls visit(start, end) for each part of the set that is inside [start, end), in order.
template <class Visit>
void for_each_inside(const Ranges& ranges, std::uint64_t start, std::uint64_t end, Visit visit) {
  auto range = ranges.upper_bound(start);
  if (range != ranges.begin()) --range;
  for (; range != ranges.end() && range->first < end; ++range) {
    const std::uint64_t from = std::max(range->first, start);
    const std::uint64_t to = std::min(range->second, end);
    if (from < to) visit(from, to);
  }
}

}  // namespace jh
