// FAT and NTFS, as far as their boot sectors go: name, identity, and the place of their partition.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::boot {

extern const FilesystemKind ntfs;
extern const FilesystemKind fat32;
extern const FilesystemKind fat;

}  // namespace jh::boot
