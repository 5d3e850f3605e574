// LedgerIndex: what a ledger says of each image, sorted by place, so that it can be held against
// what is there.
#pragma once

#include <map>
#include <vector>

#include "core/base/ranges.h"
#include "core/store/ledger.h"

namespace jh {

/// A stretch of an image and where in the ledger what is known of it stands; 0: it was zeros.
struct LedgerRange {
  std::uint64_t length = 0;
  std::uint64_t at = 0;
  bool shared = false;  // the bytes themselves, whatever else stands there of such a stretch
};
/// Disjoint, by offset.
using LedgerRanges = std::map<std::uint64_t, LedgerRange>;

struct LedgerIndex {
  struct Checksum {
    std::uint64_t length = 0;
    std::uint32_t crc = 0;
  };
  struct Moved {
    std::uint64_t length = 0;
    std::uint32_t image = 0;
    std::uint64_t at = 0;
    std::uint32_t crc = 0;
  };
  struct Image {
    std::uint64_t old_size = 0;
    std::uint64_t new_size = 0;
    std::uint64_t size_at_commit = 0;
    Ranges after;                                 // what the seal wrote
    LedgerRanges wrote;                           // checksums of its sectors; begins at a sector
    LedgerRanges kept;                            // old bytes of what was written directly
    LedgerRanges cut;                             // old bytes behind the new end
    std::map<std::uint64_t, Checksum> checksums;  // checksums of such
    std::map<std::uint64_t, Moved> moved;
  };
  /// A range of the disk in this image that the change handed out.
  struct AssignedRange {
    std::uint32_t image = 0;
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    bool zero = false;
    std::uint32_t crc = 0;
  };
  std::vector<Image> images;
  std::vector<AssignedRange> assigned_ranges;
};

/// Throws damaged for records that contradict each other.
LedgerIndex index_of(Ledger& ledger);

}  // namespace jh
