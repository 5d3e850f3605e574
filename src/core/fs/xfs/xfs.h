// The door to XFS.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::xfs {

extern const FilesystemKind kind;

}  // namespace jh::xfs
