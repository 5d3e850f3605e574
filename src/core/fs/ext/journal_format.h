// The journal of ext3 and ext4 on disk ("Journal (jbd2)" in the kernel's documentation). All
// integers big-endian, except in fast-commit blocks.
#pragma once

#include <array>
#include <cstddef>

#include "core/base/checksum.h"
#include "core/base/endian.h"
#include "core/base/uuid.h"
#include "core/store/store.h"

namespace jh::ext::journal {

constexpr std::uint32_t magic = 0xC03B3998;

enum class BlockType : std::uint32_t {
  descriptor = 1,
  commit = 2,
  superblock_v1 = 3,
  superblock_v2 = 4,
  revoke = 5,
};

struct Header {
  Be32 magic;
  Be32 type;
  Be32 sequence;
};

struct Superblock {
  Header header;
  Be32 block_size;
  Be32 length;    // blocks of the journal
  Be32 first;     // first block of the log
  Be32 sequence;  // of the first transaction in the log
  Be32 start;     // its block; 0: the log is empty
  Be32 error;
  Be32 feature_compat;
  Be32 feature_incompat;
  Be32 feature_ro_compat;
  Uuid uuid;
  Be32 user_count;
  Be32 dynamic_super;
  Be32 max_transaction;
  Be32 max_trans_data;
  std::uint8_t checksum_type;
  std::array<std::uint8_t, 3> padding;
  Be32 fast_commit_blocks;
  Be32 head;
  std::array<Be32, 40> reserved;
  Be32 checksum;
  std::array<std::uint8_t, 768> users;
};
static_assert(sizeof(Superblock) == 1024 && offsetof(Superblock, uuid) == 0x30);
static_assert(offsetof(Superblock, checksum_type) == 0x50);
static_assert(offsetof(Superblock, checksum) == 0xFC);

constexpr std::uint32_t compat_checksum = 0x1;
constexpr std::uint32_t incompat_revoke = 0x1, incompat_64bit = 0x2, incompat_async_commit = 0x4,
                        incompat_csum_v2 = 0x8, incompat_csum_v3 = 0x10,
                        incompat_fast_commit = 0x20;

inline bool has_checksum(const Superblock& super) {
  return super.header.type.value() == static_cast<std::uint32_t>(BlockType::superblock_v2) &&
         (super.feature_incompat.value() & (incompat_csum_v2 | incompat_csum_v3)) != 0;
}

inline std::uint32_t superblock_checksum(Superblock super) {
  super.checksum = 0;
  return crc32c_raw(~0U, bytes_of(super));
}

// With csum_v3: 16 bytes. Otherwise 8, or 12 with 64bit.
struct Tag3 {
  Be32 block_lo;
  Be32 flags;
  Be32 block_hi;
  Be32 checksum;
};
struct Tag {
  Be32 block_lo;
  Be16 checksum;
  Be16 flags;
  Be32 block_hi;
};
static_assert(sizeof(Tag3) == 16 && sizeof(Tag) == 12);
constexpr std::uint32_t tag_escaped = 1, tag_same_uuid = 2, tag_last = 8;

struct RevokeHeader {
  Header header;
  Be32 used;  // bytes of the block in use, this header included
};

struct CommitBlock {
  Header header;
  std::uint8_t checksum_type;
  std::uint8_t checksum_size;
  std::array<std::uint8_t, 2> padding;
  std::array<Be32, 8> checksum;
  Be64 seconds;
  Be32 nanoseconds;
};
static_assert(offsetof(CommitBlock, checksum) == 16);

// Fast commits: tag, length, value; little-endian.
struct FastTag {
  Le16 type;
  Le16 length;
};
enum class FastType : std::uint16_t {
  add_range = 1,
  del_range = 2,
  create = 3,
  link = 4,
  unlink = 5,
  inode = 6,
  pad = 7,
  tail = 8,
  head = 9,
};
struct FastHead {
  Le32 features;
  Le32 tid;
};
struct FastTail {
  Le32 tid;
  Le32 crc;
};

}  // namespace jh::ext::journal
