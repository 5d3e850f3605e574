// LUKS on disk: "LUKS1 On-Disk Format Specification" 1.2.3 and "LUKS2 On-Disk Format
// Specification" 1.1.2. All integers are big-endian.
#pragma once

#include <array>

#include "core/base/endian.h"

namespace jh::luks {

using Magic = std::array<std::uint8_t, 6>;
constexpr Magic first_magic{'L', 'U', 'K', 'S', 0xBA, 0xBE};
constexpr Magic second_magic{'S', 'K', 'U', 'L', 0xBA, 0xBE};  // of the second copy of version 2

/// What both versions begin with.
struct Start {
  Magic magic;
  Be16 version;
};
static_assert(sizeof(Start) == 8);

constexpr std::uint32_t sector = 512;
constexpr std::uint32_t slot_in_use = 0x00AC71F3;
constexpr std::uint32_t slot_free = 0x0000DEAD;

/// A key slot of version 1.
struct Slot {
  Be32 state;
  Be32 iterations;
  std::array<std::uint8_t, 32> salt;
  Be32 material;  // sectors, from the start
  Be32 stripes;
};
static_assert(sizeof(Slot) == 48);

/// Version 1, section 3 ("partition header").
struct Header1 {
  Start start;
  std::array<char, 32> cipher;
  std::array<char, 32> mode;
  std::array<char, 32> hash;
  Be32 payload;    // sectors, from the start
  Be32 key_bytes;  // of the volume's key
  std::array<std::uint8_t, 20> digest;
  std::array<std::uint8_t, 32> digest_salt;
  Be32 digest_iterations;
  std::array<char, 40> uuid;
  std::array<Slot, 8> slots;
};
static_assert(sizeof(Header1) == 592);

/// Version 2, section 2.1 ("binary header"); the JSON area follows at 4096.
struct Header2 {
  Start start;
  Be64 size;      // of header and JSON area, bytes
  Be64 sequence;  // the larger one counts
  std::array<char, 48> label;
  std::array<char, 32> checksum_kind;
  std::array<std::uint8_t, 64> salt;
  std::array<char, 40> uuid;
  std::array<char, 48> subsystem;
  Be64 offset;  // where this copy is, bytes
  std::array<std::uint8_t, 184> padding;
  std::array<std::uint8_t, 64> checksum;  // of header, with this as zeros, and JSON area
};
static_assert(sizeof(Header2) == 512);

constexpr std::uint64_t json_at = 4096;
constexpr std::uint64_t least_size = 16384;  // of header and JSON area: powers of two
constexpr std::uint64_t most_size = 4U << 20;

}  // namespace jh::luks
