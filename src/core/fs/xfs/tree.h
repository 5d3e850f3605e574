// Tree: the files of a filesystem, for comparing two states of it.
#pragma once

#include <memory>

#include "core/fs/filesystem.h"
#include "core/fs/xfs/group.h"

namespace jh::xfs {

/// Nodes are counted through the inode records of all groups: 64 to a record. Memory: 8 bytes for
/// each record.
std::unique_ptr<FileTree> file_tree(Store& place, const Geometry& geometry);

}  // namespace jh::xfs
