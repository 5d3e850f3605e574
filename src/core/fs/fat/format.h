// FAT12, FAT16 and FAT32 on disk. Microsoft Extensible Firmware Initiative FAT32 File System
// Specification 1.03; the sections are named with the structures. All fields are little-endian.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"

namespace jh::fat {

// "Boot Sector and BPB".
struct Sector {
  std::array<std::uint8_t, 3> jump;
  std::array<char, 8> maker;  // anything
  Le16 bytes_per_sector;
  std::uint8_t sectors_per_cluster;
  Le16 reserved_sectors;
  std::uint8_t fats;
  Le16 root_entries;  // 0: FAT32
  Le16 sectors_16;
  std::uint8_t media;
  Le16 sectors_per_fat_16;  // 0: FAT32
  Le16 sectors_per_track;
  Le16 heads;
  Le32 hidden_sectors;  // in front of the partition
  Le32 sectors_32;
  Le32 sectors_per_fat_32;  // FAT32 from here on
  Le16 flags;               // bit 7: only the table in bits 0 to 3 is kept
  Le16 version;
  Le32 root_cluster;
  Le16 information_sector;
  Le16 copy_sector;
};
static_assert(sizeof(Sector) == 52 && offsetof(Sector, hidden_sectors) == 28);

// "FAT Type Determination": fewer clusters than these.
constexpr std::uint32_t fat12_clusters = 4085;
constexpr std::uint32_t fat16_clusters = 65525;
constexpr std::uint32_t first_cluster = 2;

// "FSInfo Sector Structure".
struct Information {
  Le32 lead;  // 0x41615252
  std::array<std::uint8_t, 480> unused;
  Le32 mark;  // 0x61417272
  Le32 free;  // 0xFFFFFFFF: not known
  Le32 next;
};
static_assert(sizeof(Information) == 496 && offsetof(Information, free) == 488);
constexpr std::uint32_t information_lead = 0x41615252;
constexpr std::uint32_t information_mark = 0x61417272;

// "FAT Directory Structure".
struct Entry {
  std::array<char, 11> name;
  std::uint8_t attributes;
  std::array<std::uint8_t, 8> unused;
  Le16 cluster_high;
  std::array<std::uint8_t, 4> unused_time;
  Le16 cluster_low;
  Le32 size;
};
static_assert(sizeof(Entry) == 32);
namespace attribute {
constexpr std::uint8_t label = 0x08;
constexpr std::uint8_t folder = 0x10;
constexpr std::uint8_t long_name = 0x0F;  // under the mask 0x3F
}  // namespace attribute
constexpr char removed = '\xE5';

// "Long Directory Entries": pieces of a name, the last one first, in front of its entry.
struct LongEntry {
  std::uint8_t order;  // 0x40: the last one
  std::array<Le16, 5> first;
  std::uint8_t attributes;
  std::uint8_t type;
  std::uint8_t checksum;  // of the short name
  std::array<Le16, 6> second;
  Le16 cluster;
  std::array<Le16, 2> third;
};
static_assert(sizeof(LongEntry) == 32);

}  // namespace jh::fat
