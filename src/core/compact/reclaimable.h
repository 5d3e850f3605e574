// What of a disk may lose its place in the file: whole blocks that no layer uses, or that are zero.
#pragma once

#include <vector>

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/guest/unused.h"

namespace jh {

struct Reclaimable {
  Ranges ranges;                     // whole units that lose their place
  std::vector<std::uint64_t> bytes;  // by source of `unused`; the last one: zeros
};

/// Reads what is used of the disk, as far as it is kept in the image's own files.
Reclaimable find_reclaimable(Container& container, const Unused& unused, Progress& progress);

}  // namespace jh
