// Master boot record and extended boot records. The layout is common knowledge of the PC platform;
// UEFI 2.10, section 5.2 describes it (5.2.1 legacy MBR, 5.2.3 protective MBR).
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"

namespace jh::mbr {

constexpr std::size_t sector_bytes = 512;  // the record fills the first 512 bytes of its sector
constexpr std::uint16_t boot_signature = 0xAA55;

struct Chs {
  std::uint8_t head;
  std::uint8_t sector_and_cylinder_high;
  std::uint8_t cylinder_low;
  bool operator==(const Chs&) const = default;
};

struct Entry {
  std::uint8_t boot_indicator;
  Chs start_chs;
  std::uint8_t type;
  Chs end_chs;
  Le32 start_lba;
  Le32 sectors;
};
static_assert(sizeof(Entry) == 16);

struct Record {
  std::array<std::uint8_t, 440> boot_code;
  Le32 disk_signature;
  Le16 reserved;
  std::array<Entry, 4> entries;
  Le16 signature;
};
static_assert(sizeof(Record) == 512 && offsetof(Record, entries) == 446);

// What is the table's own of its first sector: the rest is the boot loader's, and the disk's
// signature.
constexpr std::uint64_t entries_at = offsetof(Record, entries);

constexpr std::uint8_t type_empty = 0x00;
constexpr std::uint8_t type_extended_chs = 0x05;
constexpr std::uint8_t type_extended_lba = 0x0F;
constexpr std::uint8_t type_extended_linux = 0x85;
constexpr std::uint8_t type_physical_volume = 0x8E;  // of LVM
constexpr std::uint8_t type_protective = 0xEE;

constexpr bool is_extended(std::uint8_t type) {
  return type == type_extended_chs || type == type_extended_lba || type == type_extended_linux;
}

}  // namespace jh::mbr
