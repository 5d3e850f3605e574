// Superblocks of arrays and caches that a guest puts together from several disks. Multiple-device
// superblocks as md(4) and the kernel's documentation describe them; the others by their published
// signatures. docs/formats/array.md has them as tables.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::array {

constexpr std::uint32_t md_magic = 0xA92B4EFCU;

/// Version 1: little-endian. 1.0 lies near the place's end, 1.1 at its beginning, 1.2 4096 bytes
/// in.
struct Md1Superblock {
  Le32 magic;
  Le32 major_version;  // 1
  Le32 features;
  Le32 padding;
  Uuid set_uuid;
  std::array<char, 32> set_name;
  Le64 created;
  Le32 level;  // signed
  Le32 layout;
  Le64 size;  // sectors used of each member
  Le32 chunk;
  Le32 members;
  std::array<std::uint8_t, 32> other;
  Le64 data_offset;  // sectors
  Le64 data_size;
  Le64 super_offset;  // where this superblock lies, in sectors of 512 bytes
};
static_assert(sizeof(Md1Superblock) == 152);
static_assert(offsetof(Md1Superblock, level) == 72);
static_assert(offsetof(Md1Superblock, data_offset) == 128);
static_assert(offsetof(Md1Superblock, super_offset) == 144);

/// Version 0.90, in the byte order of the guest: 64 KiB wide, the last such that is aligned.
template <class Word>
struct Md0Superblock {
  Word magic;
  Word major_version;  // 0
  Word minor_version;  // 90
  Word patch_version;
  Word generic_words;
  Word set_uuid0;
  Word created;
  Word level;  // signed
  Word size;   // KiB used of each member; 0: levels that do not say
  Word disks;
  Word members;
  Word minor;
  Word not_persistent;
  Word set_uuid1;
  Word set_uuid2;
  Word set_uuid3;
};
static_assert(sizeof(Md0Superblock<Le32>) == 64);
constexpr std::uint64_t md0_room = 64U << 10;

/// A signature at a fixed distance from the beginning, or from the end, of a place.
struct Signature {
  bool from_end;
  std::uint64_t distance;
  std::string_view bytes;
  const char* what;
};
using namespace std::string_view_literals;
constexpr std::array<Signature, 13> signatures{{
    {false, 4096 + 24, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81"sv,
     "block cache"},
    {false, 4096, "SPACEDB "sv, "pool of the guest's system"},
    // The anchor of the common disk data format, SNIA, section "Anchor header".
    {true, 512, "\xde\x11\xde\x11"sv, "controller's array"},
    {true, 4096, "\xde\x11\xde\x11"sv, "controller's array"},
    {true, 257 * 512, "\xde\x11\xde\x11"sv, "controller's array"},
    {true, 1024, "Intel Raid ISM Cfg Sig. "sv, "controller's array"},
    {true, 8192, "Intel Raid ISM Cfg Sig. "sv, "controller's array"},
    {true, 512, "$XIDE$"sv, "controller's array"},
    {true, 1024, "NVIDIA  "sv, "controller's array"},
    {true, 63 * 512, "Promise Technology, Inc."sv, "controller's array"},
    // Metadata of a replicated block device, inside it: its magic number follows 60 bytes, and
    // ends with the version.
    {true, 4096 - 60, "\x83\x74\x02\x6b"sv, "replicated disk"},
    {true, 4096 - 60, "\x83\x74\x02\x6c"sv, "replicated disk"},
    {true, 4096 - 60, "\x83\x74\x02\x6d"sv, "replicated disk"},
}};

}  // namespace jh::array
