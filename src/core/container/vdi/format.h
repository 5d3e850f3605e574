// VDI 1.1 on disk, as its published header describes it. Everything is little-endian. Layout as
// tables: docs/formats/vdi.md.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::vdi {

constexpr std::uint32_t signature = 0xbeda107f;
constexpr std::uint64_t signature_offset = 0x40;
constexpr std::uint32_t version_1_1 = 0x00010001;
// Of what follows the version, itself included; with the geometry that came later it is 400.
constexpr std::uint32_t header_size_1_1 = 384;

enum class Type : std::uint32_t { sparse = 1, fixed = 2, undo = 3, differencing = 4 };

struct Geometry {
  Le32 cylinders;
  Le32 heads;
  Le32 sectors;
  Le32 sector_size;
};

struct Header {
  std::array<char, 64> text;
  Le32 signature;
  Le32 version;
  Le32 header_size;
  Le32 type;
  Le32 flags;
  std::array<char, 256> comment;
  Le32 map_offset;
  Le32 data_offset;
  Geometry old_geometry;
  Le32 unused;
  Le64 disk_size;  // bytes
  Le32 block_size;
  Le32 block_extra;  // bytes in front of each block's data
  Le32 blocks;
  Le32 blocks_kept;
  Uuid id;
  Uuid modified;         // changes when the content does
  Uuid parent;           // its id
  Uuid parent_modified;  // its `modified` when this image was begun
  Geometry geometry;
  std::array<std::uint8_t, 40> padding;
};
static_assert(sizeof(Header) == 512);
static_assert(offsetof(Header, map_offset) == 0x154);
static_assert(offsetof(Header, disk_size) == 0x170);
static_assert(offsetof(Header, id) == 0x188);
static_assert(offsetof(Header, geometry) == 0x1c8);

// Entries of the block map that are no block's number.
constexpr std::uint32_t entry_absent = 0xffffffff;
constexpr std::uint32_t entry_zero = 0xfffffffe;
constexpr std::uint32_t most_blocks = 0xfffffff0;
// A limit of ours, by which a block map takes at most 128 MiB: 32 TiB of blocks of 1 MiB.
constexpr std::uint64_t most_entries = 32U << 20;

}  // namespace jh::vdi
