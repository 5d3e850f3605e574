// Tree: the files of all subvolumes, for comparing two states of a filesystem.
#pragma once

#include <memory>

#include "core/fs/btrfs/volume.h"
#include "core/fs/filesystem.h"

namespace jh::btrfs {

/// Subvolumes and snapshots are folders where they have a name, and roots besides. Content is
/// compared as it lies on the device, compressed or not, in all copies, and with its checksums.
/// Memory: 8 bytes for each inode of each subvolume.
std::unique_ptr<FileTree> file_tree(const Volume& volume);

}  // namespace jh::btrfs
