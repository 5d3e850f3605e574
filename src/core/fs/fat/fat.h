// The door to FAT: read, audited and compacted; its size stays.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::fat {

extern const FilesystemKind fat32;
extern const FilesystemKind fat;

}  // namespace jh::fat
