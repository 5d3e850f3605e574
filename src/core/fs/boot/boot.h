// Boot sectors of FAT and NTFS that name the place of their partition.
#pragma once

#include "core/store/store.h"

namespace jh::boot {

enum class Kind { fat, ntfs };

/// Tells a filesystem that its partition begins at another sector of the disk: in the boot sector
/// and its copy, where they say that it begins at `from`. Others (made without a disk around them)
/// stay as they are. `volume` is the partition; a copy that is not where it should be is left
/// alone.
void begin_elsewhere(Store& volume, Kind kind, std::uint64_t from, std::uint64_t to);

}  // namespace jh::boot
