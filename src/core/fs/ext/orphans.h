// Orphans: files that were still open, or being cut, when the guest stopped. The guest would remove
// or cut them at its next start; so do we, before anything moves.
#pragma once

#include "core/fs/ext/allocation.h"
#include "core/fs/ext/block_map.h"

namespace jh::ext {

struct OrphanCounts {
  std::uint32_t removed = 0;
  std::uint32_t cut = 0;
};

/// Works off the orphan list and the orphan file. Throws damaged when they lead astray.
OrphanCounts clean_up_orphans(Filesystem& fs);

/// Gives back an inode that no name leads to any more, and all its blocks. It must have no links.
void remove_inode(Filesystem& fs, Allocation& allocation, std::uint32_t ino);

/// Gives back every block of a file from `first` (logical) on. The inode is changed, not written.
void cut_blocks(Filesystem& fs, Allocation& allocation, InodeRecord& inode, std::uint64_t first);

}  // namespace jh::ext
