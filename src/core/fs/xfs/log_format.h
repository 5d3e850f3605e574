// The log of XFS, version 5. Source: "XFS Algorithms & Data Structures", 3rd edition, by the titles
// of its chapters.
#pragma once

#include "core/fs/xfs/format.h"

namespace jh::xfs {

// "Journaling Log": records.
struct LogRecord {
  Be32 magic;
  Be32 cycle;
  Be32 version;
  Be32 length;
  Be64 sequence;
  Be64 tail;
  boost::endian::little_uint32_buf_t checksum;
  Be32 previous;
  Be32 operations;
  std::array<Be32, 64> cycles;
  Be32 format;
  Uuid uuid;
  Be32 size;
};
static_assert(offsetof(LogRecord, cycles) == 44);
static_assert(offsetof(LogRecord, size) == 320);
constexpr std::uint32_t log_magic = 0xFEEDBABE;
constexpr std::uint32_t log_of_little_endian = 1;      // `format`: what the items are written in
constexpr std::uint64_t log_header_reach = 32U << 10;  // bytes whose first words a header keeps

// "Journaling Log": further headers of a record longer than log_header_reach.
struct LogRecordMore {
  Be32 cycle;
  std::array<Be32, 64> cycles;
};
static_assert(sizeof(LogRecordMore) == 260);

// "Journaling Log": log operations.
struct LogOperation {
  Be32 transaction;
  Be32 length;
  std::uint8_t client;
  std::uint8_t flags;
  Be16 padding;
};
static_assert(sizeof(LogOperation) == 12);
namespace log_client {
constexpr std::uint8_t transaction = 0x69, log = 0xAA;
}  // namespace log_client
namespace log_flag {
constexpr std::uint8_t start = 1, commit = 2, goes_on = 4, went_on = 8, end = 16, unmount = 32;
}  // namespace log_flag
// Its payload.
struct UnmountText {
  Le16 magic;
  std::array<std::uint8_t, 6> padding;
};
static_assert(sizeof(UnmountText) == 8);
constexpr std::uint16_t unmount_magic = 0x556E;

// "Journaling Log": what follows is in the byte order of the guest's processor.
struct TransactionHeader {
  Le32 magic;
  Le32 type;
  Le32 transaction;
  Le32 items;
};
static_assert(sizeof(TransactionHeader) == 16);
constexpr std::uint32_t transaction_magic = 0x5452414E;

// How each item begins, and what all intents and their ends have.
struct LogItem {
  Le16 type;
  Le16 regions;
  Le32 count;
  Le64 id;
};
static_assert(sizeof(LogItem) == 16);
namespace log_item {
constexpr std::uint16_t free_intent = 0x1236, free_done = 0x1237, inode = 0x123B, buffer = 0x123C,
                        quota = 0x123D, quota_off = 0x123E, inodes_made = 0x123F,
                        reverse_intent = 0x1240, reverse_done = 0x1241, share_intent = 0x1242,
                        share_done = 0x1243, map_intent = 0x1244, map_done = 0x1245,
                        attribute_intent = 0x1246, attribute_done = 0x1247,
                        exchange_intent = 0x1248, exchange_done = 0x1249;
}  // namespace log_item

// "Buffer Log Item"; a bitmap of 32-bit words follows, one bit for 128 bytes.
struct LoggedBuffer {
  Le16 type;
  Le16 regions;
  Le16 flags;
  Le16 length;  // of 512 bytes
  Le64 address;
  Le32 words;
};
static_assert(sizeof(LoggedBuffer) == 20);
namespace logged_buffer {
constexpr std::uint16_t of_inodes = 1, cancelled = 2, of_quota = 4 | 8 | 16;
constexpr std::size_t chunk = 128;
}  // namespace logged_buffer

// "Inode Log Item".
struct LoggedInode {
  Le16 type;
  Le16 regions;
  Le32 fields;
  Le16 attribute_size;
  Le16 data_size;
  Le32 padding;
  Le64 number;
  std::array<std::uint8_t, 16> device;  // of device files: 4 bytes
  Le64 address;
  Le32 length;
  Le32 offset;
};
static_assert(offsetof(LoggedInode, device) == 24);
static_assert(sizeof(LoggedInode) == 56);
namespace logged_inode {
constexpr std::uint32_t data_local = 0x02, data_extents = 0x04, data_root = 0x08, device = 0x10,
                        data = data_local | data_extents | data_root;
constexpr std::uint32_t attribute_local = 0x40, attribute_extents = 0x80, attribute_root = 0x100,
                        attributes = attribute_local | attribute_extents | attribute_root;
constexpr std::uint32_t new_owner = 0x200 | 0x400;
}  // namespace logged_inode

// "Inode Creation Item", whose fields are big-endian.
struct InodesMade {
  Le16 type;
  Le16 regions;
  Be32 group;
  Be32 block;
  Be32 count;
  Be32 inode_size;
  Be32 blocks;
  Be32 generation;
};
static_assert(sizeof(InodesMade) == 28);

// "Quota Update Data Log Item".
struct LoggedQuota {
  Le16 type;
  Le16 regions;
  Le32 id;
  Le64 address;
  Le32 length;
  Le32 offset;
};
static_assert(sizeof(LoggedQuota) == 24);

}  // namespace jh::xfs
