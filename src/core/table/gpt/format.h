// GUID partition table: UEFI 2.10, section 5.3 (5.3.2 header, 5.3.3 entry array).
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::gpt {

constexpr std::array<char, 8> signature{'E', 'F', 'I', ' ', 'P', 'A', 'R', 'T'};
constexpr std::uint32_t revision = 0x00010000;
constexpr std::uint32_t min_header_size = 92;
constexpr std::uint32_t min_entry_size = 128;

/// Type of a partition that is an LVM physical volume: e6d6d379-f507-44c2-a23c-238f2a3df928.
constexpr Uuid type_physical_volume{0x79, 0xD3, 0xD6, 0xE6, 0x07, 0xF5, 0xC2, 0x44,
                                    0xA2, 0x3C, 0x23, 0x8F, 0x2A, 0x3D, 0xF9, 0x28};

struct Header {
  std::array<char, 8> signature;
  Le32 revision;
  Le32 header_size;
  Le32 header_crc;  // CRC-32 of header_size bytes with this field zero
  Le32 reserved;
  Le64 my_lba;
  Le64 alternate_lba;
  Le64 first_usable_lba;
  Le64 last_usable_lba;
  Uuid disk_guid;
  Le64 entries_lba;
  Le32 entry_count;
  Le32 entry_size;
  Le32 entries_crc;
};
static_assert(sizeof(Header) == 92 && offsetof(Header, entries_lba) == 72);

struct Entry {
  Uuid type;
  Uuid id;
  Le64 first_lba;
  Le64 last_lba;
  Le64 attributes;
  std::array<Le16, 36> name;  // UTF-16
};
static_assert(sizeof(Entry) == 128);

}  // namespace jh::gpt
