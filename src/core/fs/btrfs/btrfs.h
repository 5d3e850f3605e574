// btrfs behind the door of filesystems.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::btrfs {

extern const FilesystemKind kind;

}  // namespace jh::btrfs
