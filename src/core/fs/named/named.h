// Filesystems that are known by name, identity and label only, and left as they are.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::named {

extern const FilesystemKind exfat;

}  // namespace jh::named
