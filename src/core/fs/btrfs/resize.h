// Resize: a filesystem gets another end.
#pragma once

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/base/sizes.h"
#include "core/fs/btrfs/layout.h"

namespace jh::btrfs {

/// Upper bound of what a change of the size writes, content that moves not counted.
std::uint64_t bytes_to_write(const Volume& volume, const Shrinking* shrinking);

void grow(Volume& volume, std::uint64_t size);
/// What moves is written as unreferenced.
void shrink(Volume& volume, const Shrinking& plan, Progress& progress);

/// Bytes of the device where the block with the device's own item lies.
Ranges device_item_places(const Volume& volume);

}  // namespace jh::btrfs
