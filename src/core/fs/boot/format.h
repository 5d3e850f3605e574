// The boot sector of FAT, and where FAT32 keeps its copy. Microsoft Extensible Firmware Initiative
// FAT32 File System Specification 1.03, "Boot Sector and BPB".
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"

namespace jh::boot {

struct Sector {
  std::array<std::uint8_t, 3> jump;
  std::array<char, 8> maker;  // anything
  Le16 bytes_per_sector;
  std::uint8_t sectors_per_cluster;
  Le16 reserved_sectors;
  std::uint8_t fats;
  Le16 root_entries;
  Le16 sectors_16;
  std::uint8_t media;
  Le16 sectors_per_fat_16;  // 0: FAT32
  Le16 sectors_per_track;
  Le16 heads;
  Le32 hidden_sectors;  // in front of the partition
  Le32 sectors_32;
  Le32 sectors_per_fat_32;  // FAT32 from here on
  Le16 flags;
  Le16 version;
  Le32 root_cluster;
  Le16 information_sector;
  Le16 copy_sector;
};
static_assert(sizeof(Sector) == 52 && offsetof(Sector, hidden_sectors) == 28);

}  // namespace jh::boot
