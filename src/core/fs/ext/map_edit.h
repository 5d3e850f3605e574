// Changing which blocks a file has.
#pragma once

#include <vector>

#include "core/fs/ext/allocation.h"
#include "core/fs/ext/block_map.h"

namespace jh::ext {

/// All runs of a file that has extents.
std::vector<MappedExtent> read_runs(Filesystem& fs, const InodeRecord& inode);
/// Gives a file with extents exactly these runs (ascending): the tree is built anew, its old blocks
/// are given back, and the inode's block count follows. The inode is changed, not written.
void write_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                const std::vector<MappedExtent>& runs);
/// The same for runs that cover the same blocks of the file: what is counted for it changes by what
/// its tree gains or loses only. The number of blocks gained (negative: lost) is returned.
std::int64_t replace_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                          const std::vector<MappedExtent>& runs);

}  // namespace jh::ext
