// What of a guest's disk no layer uses: free blocks of filesystems, free extents, swap, gaps.
#pragma once

#include <string>
#include <vector>

#include "core/guest/guest.h"

namespace jh {

struct UnusedRange {
  std::uint64_t start = 0;  // bytes of the disk
  std::uint64_t end = 0;
  std::uint32_t source = 0;  // whose it is, among Unused::sources
};

struct Unused {
  std::vector<std::string> sources;  // "free blocks of /", "the gap behind p2"
  std::vector<UnusedRange> ranges;   // in order, disjoint
  std::vector<std::string> kept;     // what was left alone, and why
  std::uint64_t bytes() const;
  /// What begins at `at`: the range it lies in (null: it is used), and how far that, or what is
  /// used, reaches; at most `length`.
  struct Range {
    const UnusedRange* range = nullptr;
    std::uint64_t length = 0;
  };
  Range stretch(std::uint64_t at, std::uint64_t length) const;
};

/// Where to look.
enum class UnusedWhere { everywhere, outside_of_filesystems };

/// Reads bitmaps and metadata. What juneheath does not know, or finds out of order, counts as used.
/// Memory: 24 bytes for each run of free blocks.
Unused find_unused(const Guest& guest, std::size_t disk,
                   UnusedWhere where = UnusedWhere::everywhere);

}  // namespace jh
