// Filesystems that are known by name, identity and label only, and left as they are.
#pragma once

#include "core/fs/filesystem.h"

namespace jh::named {

extern const FilesystemKind xfs;
extern const FilesystemKind btrfs;
extern const FilesystemKind exfat;

/// Text in a field of a fixed length, without its padding; control characters become "?".
std::string text_at(Store& place, std::uint64_t offset, std::size_t length);

}  // namespace jh::named
