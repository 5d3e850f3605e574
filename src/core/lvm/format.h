// On-disk structures of LVM2. Sections are those of "LVM2 on-disk format": the physical volume's
// label, its header with area lists, the metadata area's header. All numbers are little-endian;
// offsets and sizes are bytes unless a name says sectors (of 512 bytes, whatever the disk has).
#pragma once

#include <array>
#include <cstdint>
#include <string_view>

#include "core/base/endian.h"

namespace jh::lvm {

constexpr std::uint64_t sector = 512;
/// Every checksum is CRC-32 (reflected, no final inversion) that begins with this value.
constexpr std::uint32_t initial_checksum = 0xF597A6CF;

// Section "Label header": in one of the first four sectors.
constexpr std::uint64_t label_sectors = 4;
constexpr std::string_view label_magic = "LABELONE";
constexpr std::string_view label_type = "LVM2 001";
struct LabelHeader {
  std::array<char, 8> magic;
  Le64 sector_number;  // where this label is
  Le32 checksum;       // from `header_offset`'s field to the end of the sector
  Le32 header_offset;  // of the physical volume's header, from the label's start
  std::array<char, 8> type;
};
static_assert(sizeof(LabelHeader) == 32);
constexpr std::size_t label_checksummed_from = 20;

// Section "Physical volume header": identity and size; then the list of data areas and the list of
// metadata areas, each ended by an empty entry; then the extension.
constexpr std::size_t id_length = 32;
struct HeaderStart {
  std::array<char, id_length> id;
  Le64 device_size;
};
struct AreaEntry {
  Le64 offset;
  Le64 size;  // 0: to the end of the device (data areas only)
};
struct HeaderExtension {
  Le32 version;
  Le32 flags;
};
static_assert(sizeof(HeaderStart) == 40 && sizeof(AreaEntry) == 16 && sizeof(HeaderExtension) == 8);
constexpr std::uint32_t extension_version = 2;
constexpr std::uint32_t extension_in_use = 1;

// Section "Metadata area header": the first sector of a metadata area; text goes round in what
// follows.
constexpr std::string_view area_magic =
    "\x20\x4c\x56\x4d\x32\x20\x78\x5b\x35\x41\x25\x72\x30\x4e\x2a\x3e";
constexpr std::uint32_t area_version = 1;
struct TextSlot {
  Le64 offset;  // from the area's start
  Le64 size;    // with the zero that ends the text
  Le32 checksum;
  Le32 flags;
};
constexpr std::uint32_t slot_ignored = 1;
struct AreaHeader {
  Le32 checksum;  // of the rest of the sector
  std::array<char, 16> magic;
  Le32 version;
  Le64 start;  // of this area on the device
  Le64 size;
  std::array<TextSlot, 4> slots;  // the first is in force, the second being written
  std::array<std::uint8_t, 376> unused;
};
static_assert(sizeof(AreaHeader) == sector);

}  // namespace jh::lvm
