// Resize: a filesystem gets another end. Logical addresses stay: copies of chunks that lie behind a
// new end move into room that no chunk takes.
#pragma once

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/base/sizes.h"
#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

struct ChunkMove {
  std::uint64_t chunk = 0;  // its logical address
  std::size_t copy = 0;
  std::uint64_t from = 0;  // bytes of the device
  std::uint64_t to = 0;
  std::uint64_t length = 0;
  std::uint64_t used = 0;  // bytes of it that hold something
};

struct Shrinking {
  std::uint64_t size = 0;
  std::vector<ChunkMove> moves;
  std::uint64_t to_move = 0;
};

/// The way to a smaller size; nothing: there is none.
std::optional<Shrinking> plan_shrinking(const Volume& volume, std::uint64_t size);
/// The smallest size with a way to it.
std::uint64_t least_size(const Volume& volume);
/// Upper bound of what a change of the size writes, content that moves not counted.
std::uint64_t bytes_to_write(const Volume& volume, bool moves);

void grow(Volume& volume, std::uint64_t size);
/// What moves is written as unreferenced.
void shrink(Volume& volume, const Shrinking& plan, Progress& progress);

/// Blocks of the trees that say where chunks lie, and how long the device is: bytes of the device.
Ranges own_tables(const Volume& volume, bool only_device_item);

}  // namespace jh::btrfs
