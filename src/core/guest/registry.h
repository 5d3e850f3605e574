// The registry of a guest that has one: keys and values in a file (a "hive"), read only. Of it, the
// letters that its volumes have. The layout is in docs/formats/hive.md.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/uuid.h"
#include "core/store/store.h"

namespace jh {

/// What a letter stands for: a partition's identity, or a disk's signature and a byte on it.
struct DriveLetter {
  char letter = 0;
  std::optional<Uuid> partition;  // in the byte order of guid_text
  std::uint32_t disk_signature = 0;
  std::uint64_t offset = 0;
};

/// From the key MountedDevices of the system's hive, sorted. Throws damaged: it is none, or what it
/// says leads nowhere.
std::vector<DriveLetter> read_drive_letters(Store& hive);

}  // namespace jh
