// VHD on disk, by the published "Virtual Hard Disk Image Format Specification", version 1.0.
// Everything is big-endian. Layout as tables: docs/formats/vhd.md.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::vhd {

constexpr std::uint64_t sector = 512;
constexpr std::string_view footer_cookie = "conectix";
constexpr std::string_view header_cookie = "cxsparse";
constexpr std::uint32_t version_1_0 = 0x00010000;
/// Times count from 2000-01-01 00:00 UTC.
constexpr std::uint64_t epoch = 946684800;
/// The largest disk: 2040 GiB.
constexpr std::uint64_t most_bytes = 2040ULL << 30;

enum class Type : std::uint32_t { fixed = 2, sparse = 3, differencing = 4 };

// "Hard Disk Footer Format": the last sector of the file; of sparse disks the first one too.
struct Footer {
  std::array<char, 8> cookie;
  Be32 features;
  Be32 version;
  Be64 header_offset;  // all ones for fixed disks
  Be32 made_at;
  std::array<char, 4> creator;
  Be32 creator_version;
  std::array<char, 4> creator_host;
  Be64 original_size;
  Be64 current_size;
  Be16 cylinders;
  std::uint8_t heads;
  std::uint8_t sectors_per_track;
  Be32 type;
  Be32 checksum;
  Uuid id;
  std::uint8_t saved_state;
  std::array<std::uint8_t, 427> reserved;
};
static_assert(sizeof(Footer) == 512);
static_assert(offsetof(Footer, checksum) == 64);

struct Locator {
  std::array<char, 4> platform;
  Be32 space;
  Be32 length;
  Be32 reserved;
  Be64 offset;
};
static_assert(sizeof(Locator) == 24);

// "Dynamic Disk Header Format"
struct Header {
  std::array<char, 8> cookie;
  Be64 data_offset;  // all ones
  Be64 table_offset;
  Be32 version;
  Be32 table_entries;
  Be32 block_size;  // bytes, without the bitmap
  Be32 checksum;
  Uuid parent_id;
  Be32 parent_made_at;
  Be32 reserved;
  std::array<std::uint8_t, 512> parent_name;  // UTF-16, big-endian
  std::array<Locator, 8> locators;
  std::array<std::uint8_t, 256> padding;
};
static_assert(sizeof(Header) == 1024);
static_assert(offsetof(Header, checksum) == 36);
static_assert(offsetof(Header, locators) == 576);

// "Block Allocation Table": sector numbers of blocks; each begins with its bitmap of sectors.
constexpr std::uint32_t entry_absent = 0xffffffff;

}  // namespace jh::vhd
