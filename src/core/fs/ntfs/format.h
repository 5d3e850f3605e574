// NTFS 3.0 and 3.1 on disk. The sections are those of the published NTFS documentation of the
// Linux-NTFS project (files "concepts" and "attributes"); docs/formats/ntfs.md has the layout as
// tables. All fields are little-endian.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"

namespace jh::ntfs {

// Concepts: "$Boot". Its copy is the last sector of the volume, behind the sectors that it counts.
struct BootSector {
  std::array<std::uint8_t, 3> jump;
  std::array<char, 8> maker;  // "NTFS    "
  Le16 bytes_per_sector;
  std::uint8_t sectors_per_cluster;  // above 128: 2 to the power of 256 less this
  Le16 reserved_sectors;
  std::array<std::uint8_t, 5> unused_fat;
  std::uint8_t media;
  Le16 unused_sectors_per_fat;
  Le16 sectors_per_track;
  Le16 heads;
  Le32 hidden_sectors;  // in front of the partition
  Le32 unused_sectors_32;
  std::array<std::uint8_t, 4> drive;
  Le64 sectors;
  Le64 mft_cluster;
  Le64 mirror_cluster;
  std::int8_t clusters_per_record;  // below 0: 2 to the power of minus this, in bytes
  std::array<std::uint8_t, 3> unused_1;
  std::int8_t clusters_per_index_block;
  std::array<std::uint8_t, 3> unused_2;
  Le64 serial;
  Le32 checksum;
  std::array<std::uint8_t, 426> code;
  Le16 end_mark;  // 0xAA55
};
static_assert(sizeof(BootSector) == 512 && offsetof(BootSector, sectors) == 0x28 &&
              offsetof(BootSector, serial) == 0x48 && offsetof(BootSector, end_mark) == 0x1FE);

// Concepts: "Fixup". What all blocks that are protected by one begin with.
struct BlockHeader {
  std::array<char, 4> magic;  // "FILE", "INDX", "RSTR", "RCRD"; "BAAD": known to be torn
  Le16 fixup_offset;
  Le16 fixup_count;  // one more than sectors of 512 bytes
  Le64 lsn;
};
static_assert(sizeof(BlockHeader) == 16);
constexpr std::uint32_t fixup_sector = 512;

// Concepts: "File record".
struct RecordHeader {
  BlockHeader block;
  Le16 sequence;
  Le16 links;
  Le16 first_attribute;
  Le16 flags;
  Le32 bytes_used;
  Le32 bytes_allocated;
  Le64 base;  // reference; 0: this is a base record
  Le16 next_instance;
  Le16 unused;
  Le32 number;  // since 3.1
};
static_assert(sizeof(RecordHeader) == 0x30);
constexpr std::size_t old_record_header = 0x2A;  // of 3.0
namespace record_flags {
constexpr std::uint16_t in_use = 1;
constexpr std::uint16_t folder = 2;
}  // namespace record_flags

// A reference: 48 bits of number, 16 of sequence.
constexpr std::uint64_t number_of(std::uint64_t reference) { return reference & 0xFFFFFFFFFFFF; }
constexpr std::uint16_t sequence_of(std::uint64_t reference) {
  return static_cast<std::uint16_t>(reference >> 48);
}
constexpr std::uint64_t reference_to(std::uint64_t number, std::uint16_t sequence) {
  return number | std::uint64_t{sequence} << 48;
}

// Files: the numbers of the system's own.
namespace file {
constexpr std::uint64_t mft = 0;
constexpr std::uint64_t mirror = 1;
constexpr std::uint64_t log = 2;
constexpr std::uint64_t volume = 3;
constexpr std::uint64_t root = 5;
constexpr std::uint64_t bitmap = 6;
constexpr std::uint64_t boot = 7;
constexpr std::uint64_t bad_clusters = 8;
constexpr std::uint64_t upcase = 10;
constexpr std::uint64_t first_spare = 16;  // kept for extension records of $MFT itself
constexpr std::uint64_t first_user = 24;
}  // namespace file

// Attributes: their types.
namespace type {
constexpr std::uint32_t standard_information = 0x10;
constexpr std::uint32_t attribute_list = 0x20;
constexpr std::uint32_t file_name = 0x30;
constexpr std::uint32_t object_id = 0x40;
constexpr std::uint32_t security_descriptor = 0x50;
constexpr std::uint32_t volume_name = 0x60;
constexpr std::uint32_t volume_information = 0x70;
constexpr std::uint32_t data = 0x80;
constexpr std::uint32_t index_root = 0x90;
constexpr std::uint32_t index_allocation = 0xA0;
constexpr std::uint32_t bitmap = 0xB0;
constexpr std::uint32_t reparse_point = 0xC0;
constexpr std::uint32_t ea_information = 0xD0;
constexpr std::uint32_t ea = 0xE0;
constexpr std::uint32_t property_set = 0xF0;
constexpr std::uint32_t logged_stream = 0x100;
constexpr std::uint32_t end = 0xFFFFFFFF;
}  // namespace type

// Concepts: "Attribute header".
struct AttributeHeader {
  Le32 type;
  Le32 length;  // a multiple of 8
  std::uint8_t nonresident;
  std::uint8_t name_length;  // in UTF-16 units
  Le16 name_offset;
  Le16 flags;
  Le16 instance;  // tells attributes of one record apart
};
static_assert(sizeof(AttributeHeader) == 16);
namespace attribute_flags {
constexpr std::uint16_t compressed = 0x0001;
constexpr std::uint16_t compression_mask = 0x00FF;
constexpr std::uint16_t encrypted = 0x4000;
constexpr std::uint16_t sparse = 0x8000;
}  // namespace attribute_flags

struct ResidentHeader {
  AttributeHeader common;
  Le32 value_length;
  Le16 value_offset;
  std::uint8_t indexed;
  std::uint8_t unused;
};
static_assert(sizeof(ResidentHeader) == 24);

struct NonresidentHeader {
  AttributeHeader common;
  Le64 lowest_vcn;
  Le64 highest_vcn;
  Le16 pairs_offset;
  std::uint8_t compression_unit;  // 2 to the power of this, in clusters; 0: none
  std::array<std::uint8_t, 5> unused;
  Le64 allocated_size;  // this and what follows: where lowest_vcn is 0
  Le64 data_size;
  Le64 initialized_size;
};
static_assert(sizeof(NonresidentHeader) == 64);
// Behind it where compression_unit is not 0: Le64, bytes of clusters really taken.

// Attributes: "$ATTRIBUTE_LIST".
struct ListEntry {
  Le32 type;
  Le16 length;
  std::uint8_t name_length;
  std::uint8_t name_offset;
  Le64 lowest_vcn;
  Le64 record;  // reference
  Le16 instance;
};
static_assert(sizeof(ListEntry) == 26);
constexpr std::uint64_t list_limit = 256U << 10;

// Attributes: "$FILE_NAME".
struct FileName {
  Le64 parent;  // reference
  Le64 created;
  Le64 modified;
  Le64 record_changed;
  Le64 accessed;
  Le64 allocated_size;
  Le64 data_size;
  Le32 attributes;
  Le32 reparse;
  std::uint8_t length;  // of the name that follows, in UTF-16 units
  std::uint8_t space;
};
static_assert(sizeof(FileName) == 0x42);

// Attributes: "$VOLUME_INFORMATION".
struct VolumeInformation {
  Le64 unused;
  std::uint8_t major;
  std::uint8_t minor;
  Le16 flags;
};
static_assert(sizeof(VolumeInformation) == 12);
namespace volume_flags {
constexpr std::uint16_t dirty = 0x0001;
constexpr std::uint16_t resize_log = 0x0002;
constexpr std::uint16_t upgrade = 0x0004;
constexpr std::uint16_t check_underway = 0x4000;
}  // namespace volume_flags

// Concepts: "Node header", "Index root", "Index record", "Index entry".
struct IndexHeader {
  Le32 first_entry;  // from this header on
  Le32 used;
  Le32 allocated;
  std::uint8_t flags;
  std::array<std::uint8_t, 3> unused;
};
static_assert(sizeof(IndexHeader) == 16);
constexpr std::uint8_t index_has_children = 1;

struct IndexRoot {
  Le32 indexed_type;  // 0: a view
  Le32 collation;
  Le32 block_size;
  std::uint8_t clusters_per_block;
  std::array<std::uint8_t, 3> unused;
  IndexHeader header;
};
static_assert(sizeof(IndexRoot) == 32);

struct IndexBlock {
  BlockHeader block;
  Le64 vcn;
  IndexHeader header;
};
static_assert(sizeof(IndexBlock) == 40);

struct IndexEntry {
  Le64 reference;  // of folders; views keep their value's place here
  Le16 length;
  Le16 key_length;
  Le16 flags;
  Le16 unused;
};
static_assert(sizeof(IndexEntry) == 16);
namespace entry_flags {
constexpr std::uint16_t child = 1;  // the last 8 bytes are the child's place
constexpr std::uint16_t last = 2;   // no key
}  // namespace entry_flags

// Files: "$LogFile", the restart area.
struct RestartPage {
  BlockHeader block;  // "RSTR", or "CHKD" after the guest's check
  Le32 system_page_size;
  Le32 log_page_size;
  Le16 area_offset;
  Le16 minor;
  Le16 major;
};
static_assert(sizeof(RestartPage) == 30);
struct RestartArea {
  Le64 current_lsn;
  Le16 clients;
  Le16 client_free;
  Le16 client_in_use;  // 0xFFFF: none
  Le16 flags;
};
static_assert(sizeof(RestartArea) == 16);
constexpr std::uint16_t restart_clean = 0x0002;
constexpr std::uint16_t no_client = 0xFFFF;

}  // namespace jh::ntfs
