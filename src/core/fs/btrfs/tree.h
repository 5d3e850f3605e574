// Tree: the content of the chunks, for comparing two states of a filesystem.
#pragma once

#include <memory>

#include "core/fs/btrfs/volume.h"
#include "core/fs/filesystem.h"

namespace jh::btrfs {

/// Logical addresses stay whatever a change of the size does: if each chunk holds the same bytes,
/// all files, folders, subvolumes and snapshots are the same. So each copy of a chunk is a "file"
/// here, with what is in use of it; not the trees that say where chunks lie.
std::unique_ptr<FileTree> chunk_files(const Volume& volume);

}  // namespace jh::btrfs
