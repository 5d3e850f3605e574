// Are the snapshots inside of an image as they were?
#pragma once

#include "core/guest/guest.h"
#include "core/staged/disk_compare.h"

namespace jh {

/// Every snapshot has its name, its time and its disk's size, and no byte of what it relies on has
/// changed. Throws damaged. Returns how many there are.
std::size_t check_snapshots(ImageReader& before, Store& old_file, ImageReader& after,
                            Store& new_file, const FileChanges& changes);

}  // namespace jh
