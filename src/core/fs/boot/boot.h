// FAT, as far as its boot sector goes: name, identity, and the place of their partition.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::boot {

extern const FilesystemKind fat32;
extern const FilesystemKind fat;

}  // namespace jh::boot
