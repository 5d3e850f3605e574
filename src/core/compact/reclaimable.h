// What of a disk may lose its place in the file: whole blocks that no layer uses, that are zero, or
// that hold what the image's parent has there.
#pragma once

#include <vector>

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/guest/unused.h"

namespace jh {

struct Reclaimable {
  Ranges ranges;                     // whole units that lose their place, and read as zeros then
  Ranges as_parent;                  // whole units that lose it because the parent shows the same
  std::vector<std::uint64_t> bytes;  // by source of `unused`
  // False: of many units that are used one of 16 was read, and none was zero; the others were not.
  bool zeros_seen = true;
  std::uint64_t zeros = 0;  // bytes that are used, and zero
  std::uint64_t same = 0;   // bytes that are used, and the parent's too
  bool empty() const { return ranges.empty() && as_parent.empty(); }
};

/// What is looked at: only what the layers say of their free room, or all content as well, for
/// zeros and for what the parent has.
enum class Look { tables, content };

/// With `content` reads what is used of the disk, as far as it is kept in the image's own files.
Reclaimable find_reclaimable(Container& container, const Unused& unused, Look look,
                             Progress& progress);

}  // namespace jh
