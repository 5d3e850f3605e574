// The snapshots that a qcow2 image keeps inside ("Snapshots" of the specification): their list.
#pragma once

#include "core/container/qcow2/image.h"

namespace jh::qcow2 {

/// Reads the list into `image`. Throws damaged.
void read_snapshots(Store& file, Image& image);

/// Where a new list with the size of each snapshot's disk would have to be written: entries without
/// one (they need none as long as the disk keeps its size) get `disk_size`. Nothing: all have one.
std::optional<Buffer> list_with_sizes(Store& file, const Image& image, std::uint64_t disk_size);

}  // namespace jh::qcow2
