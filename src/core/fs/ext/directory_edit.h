// Changing which names a directory has, and the checksums of its blocks.
#pragma once

#include <string>

#include "core/fs/ext/allocation.h"

namespace jh::ext {

/// Adds a name; false when it is there already and leads to `ino`. A hash index of the directory is
/// given up (the guest reads it as a plain one). The directory's inode is changed, not written.
/// Throws unsupported for directories inside their inode.
bool add_name(Filesystem& fs, Allocation& allocation, InodeRecord& directory,
              const std::string& name, std::uint32_t ino, std::uint16_t mode);
/// Removes a name; false when it is not there or leads elsewhere.
bool remove_name(Filesystem& fs, InodeRecord& directory, const std::string& name,
                 std::uint32_t ino);
/// Puts the checksum of a directory's block where it belongs: an index node's, or a block's of
/// names.
void set_directory_sum(const Filesystem& fs, const InodeRecord& directory, std::uint64_t logical,
                       Buffer& raw);
/// Puts the checksums of all blocks of the orphan file in place; they know the inode's number and
/// the block's.
void sum_orphan_file(Filesystem& fs, const InodeRecord& inode);
/// The first block of a new directory.
Buffer first_directory_block(const Filesystem& fs, const InodeRecord& directory,
                             std::uint32_t parent);

}  // namespace jh::ext
