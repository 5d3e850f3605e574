// The ledger's own layout; docs/formats/ledger.md has it as tables. All integers little-endian.
#pragma once

#include <array>
#include <cstddef>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::ledger {

constexpr std::uint64_t block_size = 4096;
constexpr std::array<char, 8> header_magic{'J', 'U', 'N', 'E', 'L', 'D', 'G', 'R'};
constexpr std::array<char, 8> mark_magic{'J', 'U', 'N', 'E', 'M', 'A', 'R', 'K'};
constexpr std::uint32_t record_magic = 0x4345524AU;       // "JREC"
constexpr char pointer_text[] = "JUNEHEATH LEDGER AT\n";  // of the files beside further images
constexpr std::uint32_t version = 8;                      // 7 shares no blocks with the images
constexpr std::uint32_t oldest_version = 6;               // nor has compressed payloads
constexpr std::uint64_t max_payload = 1U << 20;
constexpr std::uint64_t max_header = 1U << 24;  // bytes, with the list of images
/// What a disk writes whole or not at all: the unit of the checksums of what was written directly.
constexpr std::uint64_t sector_size = 512;

/// Blocks 0 to 5: a mark is set by writing its block, and it counts only when its checksum holds.
enum class MarkKind : std::uint32_t {
  committed = 0,  // the records are complete
  applied = 1,    // the images hold the new state, but for their first pages
  done = 2,       // and their first pages are open
  undoing = 3,    // the old state is to come back
  fetched = 4,    // what moved is back at its old place
  restored = 5,   // the images hold the old state, but for their first pages
};
constexpr std::uint64_t mark_count = 6;
constexpr std::uint64_t header_offset = mark_count * block_size;

struct Mark {
  std::array<char, 8> magic;
  Le32 kind;
  Uuid ledger_id;
  Le64 records_end;
  Le32 flags;
  Le32 fronts_crc;  // CRC-32C of the first pages as they were then
  Le32 crc;         // CRC-32C of all before it
};
static_assert(sizeof(Mark) == 48);
constexpr std::uint32_t mark_no_undo = 1;  // of "committed": what an undo needs was not kept

struct Header {
  std::array<char, 8> magic;
  Le32 version;
  Le32 length;  // of header and image entries, a multiple of block_size; the first pages follow
  Uuid ledger_id;
  Le64 created;  // seconds since 1970
  Le32 image_count;
  Le32 crc;  // CRC-32C of the `length` bytes with this field zero
};
static_assert(sizeof(Header) == 48);

/// Follows the header, once per image; the path's bytes follow it, then those of the device's name
/// for itself, both without a terminator.
struct ImageEntry {
  Le64 old_size;
  Le64 device;
  Le64 node;
  Le32 reserved;
  Le32 path_length;
  Le32 flags;
  Le32 device_name_length;  // 0: a regular file, or a device that says nothing of itself
};
static_assert(sizeof(ImageEntry) == 40);
constexpr std::uint32_t image_created = 1;  // the change made this file: without it there is none

/// Behind header and entries, once per image: the first page of the image before it was closed.
struct Front {
  std::array<std::uint8_t, block_size> page;
  Le32 length;  // 0: this image is not closed
  std::array<std::uint8_t, block_size - sizeof(Le32)> padding;
};
static_assert(sizeof(Front) == 2 * block_size);

enum class RecordKind : std::uint32_t {
  before_direct = 1,  // old bytes of a range that was then written directly
  before = 2,         // old bytes of a range that the sealed change replaces
  after = 3,          // its new bytes
  wrote = 4,          // of what was written directly: a Le32 CRC-32C per sector
  new_size = 5,       // offset: the image's size after the change; length: the file's at the commit
  cut = 6,            // old bytes of a range behind the image's new end
  moved = 7,          // payload: where those of such a range are now
  spilled = 8,        // new bytes that an `after` record with flag_spilled speaks of
  cut_sum = 9,        // of a range behind the new end whose bytes are not kept: Le32 CRC-32C
  assigned = 10,      // a range of the *disk* that the change handed out: Le32 CRC-32C
  front = 11,         // the image is closed while the change is applied or undone
};
constexpr std::uint32_t flag_zero = 1;        // the payload would be all zeros and is left out
constexpr std::uint32_t flag_spilled = 2;     // the payload is a Spilled
constexpr std::uint32_t flag_compressed = 4;  // of `before` and `after`: the payload is zstd
/// Of `before_direct`, `wrote` and `cut`: the bytes themselves lie behind the record, in blocks
/// that this file shares with an image; the payload is a SharedPlace.
constexpr std::uint32_t flag_shared = 8;
/// Shared bytes begin at a multiple of this: the largest block of the filesystems that share.
constexpr std::uint64_t shared_alignment = 65536;
/// Less than this is copied sooner than the host shares it.
constexpr std::uint64_t worth_sharing = 256U << 10;

struct Record {
  Le32 magic;
  Le32 kind;
  Le32 image;
  Le32 flags;
  Le64 offset;
  Le64 length;
  Le32 payload_length;
  Le32 payload_crc;
  Le32 padding;
  Le32 crc;  // CRC-32C of the ledger's id, then of all before this field
};
static_assert(sizeof(Record) == 48);

/// Payload of a record of kind `moved`.
struct MovedTo {
  Le32 image;  // by its index
  Le32 crc;    // CRC-32C of the bytes
  Le64 offset;
};
static_assert(sizeof(MovedTo) == 16);

/// Where in this ledger the bytes of an `after` record are.
struct Spilled {
  Le64 at;
  Le32 crc;  // CRC-32C of the bytes
  Le32 reserved;
};
static_assert(sizeof(Spilled) == 16);

/// Where in this ledger the bytes of a record with flag_shared are; the next record follows them.
struct SharedPlace {
  Le64 at;
};
static_assert(sizeof(SharedPlace) == 8);

}  // namespace jh::ledger
