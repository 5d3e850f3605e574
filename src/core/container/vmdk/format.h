// VMDK on disk, by the published "Virtual Disk Format", version 5. Everything is little-endian.
// Layout as tables: docs/formats/vmdk.md.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include "core/base/endian.h"

namespace jh::vmdk {

constexpr std::uint64_t sector = 512;
constexpr std::string_view magic = "KDMV";
constexpr std::string_view old_magic = "COWD";
constexpr std::string_view descriptor_magic = "# Disk DescriptorFile";

// "Hosted Sparse Extent Header"; offsets and lengths in sectors
struct SparseHeader {
  std::array<char, 4> magic;
  Le32 version;
  Le32 flags;
  Le64 capacity;
  Le64 grain;
  Le64 descriptor_offset;
  Le64 descriptor_size;
  Le32 entries_per_table;
  Le64 spare_directory;  // the redundant one
  Le64 directory;
  Le64 overhead;  // of all that stands before the first grain
  std::uint8_t unclean;
  std::array<char, 4> line_ends;  // "\n \r\n": broken when a transfer treated the file as text
  Le16 compression;
  std::array<std::uint8_t, 433> padding;
};
static_assert(sizeof(SparseHeader) == 512);
static_assert(offsetof(SparseHeader, capacity) == 12);
static_assert(offsetof(SparseHeader, compression) == 77);

namespace flag {
constexpr std::uint32_t line_ends = 1U << 0;
constexpr std::uint32_t spare_tables = 1U << 1;
constexpr std::uint32_t zero_grains = 1U << 2;
constexpr std::uint32_t compressed = 1U << 16;
constexpr std::uint32_t markers = 1U << 17;
}  // namespace flag

constexpr std::uint64_t entries_per_table = 512;
constexpr std::uint64_t table_sectors = entries_per_table * 4 / sector;
constexpr std::uint32_t entry_zero = 1;
constexpr std::uint64_t directory_in_footer = UINT64_MAX;
constexpr std::uint16_t compression_deflate = 1;

// "Stream-Optimized Compressed Sparse Extents"
struct GrainMarker {
  Le64 sector;
  Le32 size;  // bytes of compressed data right behind
};
static_assert(sizeof(GrainMarker) == 12);
struct Marker {
  Le64 sectors;
  Le32 size;  // 0
  Le32 type;
  std::array<std::uint8_t, 496> padding;
};
static_assert(sizeof(Marker) == 512);
enum class MarkerType : std::uint32_t { end = 0, table = 1, directory = 2, footer = 3 };

// A limit of the form: places of grains are sectors in 32 bits.
constexpr std::uint64_t most_extent_bytes = (std::uint64_t{1} << 32) * sector;
// Pieces of "two gigabytes" have this many sectors at most.
constexpr std::uint64_t most_piece_sectors = 4192256;

}  // namespace jh::vmdk
