// What files of XFS, version 5, are kept in besides their data: folders, links, attributes, quota
// records. Source: "XFS Algorithms & Data Structures", 3rd edition, by the titles of its chapters.
#pragma once

#include "core/fs/xfs/format.h"

namespace jh::xfs {

// "Directories": directory blocks, version 5.
struct DirectoryHeader {
  Be32 magic;
  boost::endian::little_uint32_buf_t checksum;
  Be64 address;
  Be64 log_sequence;
  Uuid uuid;
  Be64 owner;
  std::array<std::uint8_t, 16> best_free;
};
static_assert(sizeof(DirectoryHeader) == 64);
constexpr std::uint32_t one_block_magic = 0x58444233;      // "XDB3"
constexpr std::uint32_t data_block_magic = 0x58444433;     // "XDD3"
constexpr std::uint64_t directory_leaves_at = 1ULL << 35;  // bytes: what is behind is an index
constexpr std::uint64_t directory_room_at = 1ULL << 36;    // bytes: free room of each block

// One of the three longest free pieces of a directory block.
struct BestFree {
  Be16 offset;
  Be16 length;
};
// Of a free piece: 0xFFFF, its length; its own offset in its last two bytes.
constexpr std::uint16_t free_tag = 0xFFFF;

// "Quota Inodes": a record on disk.
struct QuotaRecord {
  std::array<std::uint8_t, 104> counts;
  std::array<std::uint8_t, 4> padding;
  boost::endian::little_uint32_buf_t checksum;
  Be64 log_sequence;
  Uuid uuid;
};
static_assert(offsetof(QuotaRecord, log_sequence) == 112);
static_assert(sizeof(QuotaRecord) == 136);
constexpr std::uint16_t quota_magic = 0x4451;  // "DQ"
// The counts in it.
struct QuotaCountsText {
  Be16 magic;
  std::uint8_t version;
  std::uint8_t type;
  Be32 id;
  std::array<Be64, 4> limits;
  Be64 blocks;
  Be64 inodes;
};
static_assert(offsetof(QuotaCountsText, blocks) == 40);
static_assert(sizeof(QuotaCountsText) == 56);
namespace quota_flag {
constexpr std::uint16_t users_checked = 0x4, groups_checked = 0x100, projects_checked = 0x400;
}  // namespace quota_flag

// "Symbolic Links" and "Extended Attributes", values in blocks of their own: these headers are
// alike.
struct TextHeader {
  Be32 magic;
  Be32 offset;
  Be32 bytes;
  boost::endian::little_uint32_buf_t checksum;
  Uuid uuid;
  Be64 owner;
  Be64 address;
  Be64 log_sequence;
};
static_assert(sizeof(TextHeader) == 56);

// "Directories", leaf and node blocks; those of attributes begin in the same way.
struct IndexHeader {
  Be32 forward;
  Be32 backward;
  Be16 magic;
  Be16 padding;
  boost::endian::little_uint32_buf_t checksum;
  Be64 address;
  Be64 log_sequence;
  Uuid uuid;
  Be64 owner;
};
static_assert(sizeof(IndexHeader) == 56);

// What follows the header in a leaf of a directory.
struct LeafCounts {
  Be16 count;
  Be16 stale;  // entries of removed names
  Be32 padding;
};
struct LeafEntry {
  Be32 hash;
  Be32 address;  // of the name, in 8 bytes; 0: stale
};
// What follows the header in a node, of a directory or of attributes.
struct NodeCounts {
  Be16 count;
  Be16 level;
  Be32 padding;
};
struct NodeEntry {
  Be32 hash;  // the largest below
  Be32 block;
};

// "Directories", free index blocks.
struct RoomHeader {
  Be32 magic;
  boost::endian::little_uint32_buf_t checksum;
  Be64 address;
  Be64 log_sequence;
  Uuid uuid;
  Be64 owner;
  Be32 first;  // directory block of the first number
  Be32 count;
  Be32 used;  // numbers other than `no_such_block`
  Be32 padding;
};
static_assert(sizeof(RoomHeader) == 64);
constexpr std::uint16_t no_such_block = 0xFFFF;

// "Extended Attributes": in the inode, then leaves.
struct ShortAttributes {
  Be16 size;
  std::uint8_t count;
  std::uint8_t padding;
};
struct AttributeCounts {
  Be16 count;
  Be16 used;        // bytes of names and values
  Be16 first_used;  // where they begin
  std::uint8_t holes;
  std::uint8_t padding;
  std::array<std::array<Be16, 2>, 3> free;  // offset, bytes
  Be32 more_padding;
};
static_assert(sizeof(AttributeCounts) == 24);
struct AttributeEntry {
  Be32 hash;
  Be16 name;  // where it stands in the block
  std::uint8_t flags;
  std::uint8_t padding;
};
static_assert(sizeof(AttributeEntry) == 8);
namespace attribute {
constexpr std::uint8_t local = 1, root = 2, secure = 4, parent = 8, incomplete = 0x80;
}  // namespace attribute
// "Parent Pointers": the value of an attribute whose name is one that a folder has for the inode.
struct ParentPointer {
  Be64 folder;
  Be32 generation;  // of the folder
};
static_assert(sizeof(ParentPointer) == 12);

// Magic numbers of further blocks that have a checksum and a log sequence.
namespace block_magic {
constexpr std::uint32_t free_index = 0x58444633;    // "XDF3"
constexpr std::uint32_t link_text = 0x58534C4D;     // "XSLM"
constexpr std::uint32_t remote_value = 0x5841524D;  // "XARM"
// At byte 8.
constexpr std::uint16_t node = 0x3EBE, attribute_leaf = 0x3BEE, index_leaf = 0x3DF1,
                        index_leaf_of_many = 0x3DFF;
}  // namespace block_magic

}  // namespace jh::xfs
