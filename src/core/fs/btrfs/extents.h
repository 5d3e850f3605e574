// Extents: what of the logical addresses is in use, and so of the device.
#pragma once

#include <functional>

#include "core/base/ranges.h"
#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

struct Extent {
  std::uint64_t start = 0;  // logical
  std::uint64_t length = 0;
  bool tree_block = false;
  std::uint64_t references = 0;
};
/// Those that begin in [from, to), ascending; each lies in one chunk and none on another. Throws
/// damaged.
void for_each_extent(const Volume& volume, std::uint64_t from, std::uint64_t to,
                     const std::function<void(const Extent&)>& visit);

struct BlockGroup {
  std::uint64_t start = 0;
  std::uint64_t length = 0;
  std::uint64_t used = 0;
  std::uint64_t flags = 0;
};
void for_each_block_group(const Volume& volume,
                          const std::function<void(const BlockGroup&)>& visit);

/// Takes out what lies, in any copy of the chunk, where a superblock is: logical addresses.
void leave_superblocks(Ranges& room, std::uint64_t logical, const Chunk& chunk);

/// Bytes of the device that nothing is in, ascending; where superblocks lie is never free.
Ranges free_on_device(const Volume& volume);

}  // namespace jh::btrfs
