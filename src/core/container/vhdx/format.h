// VHDX on disk, by the published "VHDX Image Format Specification", version 1. Everything is
// little-endian. Layout as tables: docs/formats/vhdx.md.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::vhdx {

constexpr std::string_view file_signature = "vhdxfile";
constexpr std::uint64_t unit = 1U << 20;  // regions and blocks begin at whole MiB
constexpr std::array<std::uint64_t, 2> header_offsets{64U << 10, 128U << 10};
constexpr std::array<std::uint64_t, 2> region_table_offsets{192U << 10, 256U << 10};
constexpr std::uint64_t header_size = 4096;
constexpr std::uint64_t table_size = 64U << 10;  // of a region table, and of the metadata table
constexpr std::uint64_t most_bytes = 64ULL << 40;

// 2.2.2 Headers
struct Header {
  std::array<char, 4> signature;  // "head"
  Le32 checksum;                  // CRC-32C of 4096 bytes, this field zero
  Le64 sequence;
  Uuid file_write;
  Uuid data_write;
  Uuid log;  // zeros: the log is empty
  Le16 log_version;
  Le16 version;
  Le32 log_length;
  Le64 log_offset;
};
static_assert(sizeof(Header) == 80);

// 2.2.3 Region table
struct RegionTable {
  std::array<char, 4> signature;  // "regi"
  Le32 checksum;                  // of 64 KiB
  Le32 entries;
  Le32 reserved;
};
struct RegionEntry {
  Uuid id;
  Le64 offset;
  Le32 length;
  Le32 required;
};
static_assert(sizeof(RegionEntry) == 32);
constexpr std::uint32_t most_regions = 2047;

// 2.3 Log
struct LogEntry {
  std::array<char, 4> signature;  // "loge"
  Le32 checksum;                  // of the whole entry
  Le32 length;
  Le32 tail;  // where in the log the oldest entry still needed begins
  Le64 sequence;
  Le32 descriptors;
  Le32 reserved;
  Uuid log;
  Le64 flushed_file_offset;
  Le64 last_file_offset;
};
static_assert(sizeof(LogEntry) == 64);
struct LogDescriptor {
  std::array<char, 4> signature;  // "zero" or "desc"
  Le32 trailing;                  // last bytes of the sector, for data
  Le64 leading;                   // its first bytes; for zeros the length
  Le64 offset;
  Le64 sequence;
};
static_assert(sizeof(LogDescriptor) == 32);
struct LogData {
  std::array<char, 4> signature;  // "data"
  Le32 sequence_high;
  std::array<std::uint8_t, 4084> data;
  Le32 sequence_low;
};
static_assert(sizeof(LogData) == 4096);
constexpr std::uint64_t log_sector = 4096;
constexpr std::uint64_t most_log = 16U << 20;  // a limit of ours

// 2.5 BAT: a payload's state in bits 0 to 2, its place in MiB in bits 20 to 63
enum class State : std::uint64_t {
  absent = 0,
  undefined = 1,
  zero = 2,
  unmapped = 3,
  present = 6,
  partial = 7,
};
constexpr std::uint64_t state_mask = 7;
constexpr std::uint64_t place_mask = ~std::uint64_t{0xfffff};

// 2.6 Metadata
struct MetadataTable {
  std::array<char, 8> signature;  // "metadata"
  Le16 reserved;
  Le16 entries;
  std::array<std::uint8_t, 20> reserved2;
};
static_assert(sizeof(MetadataTable) == 32);
struct MetadataEntry {
  Uuid id;
  Le32 offset;  // in the region
  Le32 length;
  Le32 flags;
  Le32 reserved;
};
static_assert(sizeof(MetadataEntry) == 32);
constexpr std::uint16_t most_items = 2047;
constexpr std::uint32_t item_is_disk = 2;
constexpr std::uint32_t item_is_required = 4;

struct FileParameters {
  Le32 block_size;
  Le32 flags;
};
constexpr std::uint32_t leave_allocated = 1;
constexpr std::uint32_t has_parent = 2;

// 2.6.2.6 Parent locator
struct ParentLocator {
  Uuid type;
  Le16 reserved;
  Le16 entries;
};
struct ParentEntry {
  Le32 key_offset;
  Le32 value_offset;
  Le16 key_length;
  Le16 value_length;
};
static_assert(sizeof(ParentEntry) == 12);

// Identities as they lie on disk (first three fields little-endian).
constexpr Uuid bat_region{0x66, 0x77, 0xc2, 0x2d, 0x23, 0xf6, 0x00, 0x42,
                          0x9d, 0x64, 0x11, 0x5e, 0x9b, 0xfd, 0x4a, 0x08};
constexpr Uuid metadata_region{0x06, 0xa2, 0x7c, 0x8b, 0x90, 0x47, 0x9a, 0x4b,
                               0xb8, 0xfe, 0x57, 0x5f, 0x05, 0x0f, 0x88, 0x6e};
constexpr Uuid file_parameters_item{0x37, 0x67, 0xa1, 0xca, 0x36, 0xfa, 0x43, 0x4d,
                                    0xb3, 0xb6, 0x33, 0xf0, 0xaa, 0x44, 0xe7, 0x6b};
constexpr Uuid disk_size_item{0x24, 0x42, 0xa5, 0x2f, 0x1b, 0xcd, 0x76, 0x48,
                              0xb2, 0x11, 0x5d, 0xbe, 0xd8, 0x3b, 0xf4, 0xb8};
constexpr Uuid disk_id_item{0xab, 0x12, 0xca, 0xbe, 0xe6, 0xb2, 0x23, 0x45,
                            0x93, 0xef, 0xc3, 0x09, 0xe0, 0x00, 0xc7, 0x46};
constexpr Uuid logical_sector_item{0x1d, 0xbf, 0x41, 0x81, 0x6f, 0xa9, 0x09, 0x47,
                                   0xba, 0x47, 0xf2, 0x33, 0xa8, 0xfa, 0xab, 0x5f};
constexpr Uuid physical_sector_item{0xc7, 0x48, 0xa3, 0xcd, 0x5d, 0x44, 0x71, 0x44,
                                    0x9c, 0xc9, 0xe9, 0x88, 0x52, 0x51, 0xc5, 0x56};
constexpr Uuid parent_locator_item{0x2d, 0x5f, 0xd3, 0xa8, 0x0b, 0xb3, 0x4d, 0x45,
                                   0xab, 0xf7, 0xd3, 0xd8, 0x48, 0x34, 0xab, 0x0c};

}  // namespace jh::vhdx
