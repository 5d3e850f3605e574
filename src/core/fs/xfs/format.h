// XFS on disk, version 5. Source: "XFS Algorithms & Data Structures", 3rd edition (the published
// specification), by the titles of its chapters. All numbers are big-endian, but for checksums.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::xfs {

constexpr std::uint64_t basic_block = 512;  // "disk addresses" count these
constexpr std::uint32_t no_block = 0xFFFFFFFF;
constexpr std::uint32_t no_inode = 0xFFFFFFFF;

// "Allocation Groups", superblocks. One in the first sector of each allocation group.
struct Superblock {
  Be32 magic;
  Be32 block_size;
  Be64 blocks;
  Be64 realtime_blocks;
  Be64 realtime_extents;
  Uuid uuid;
  Be64 log_start;  // filesystem block; 0: the log is on another device
  Be64 root_inode;
  Be64 realtime_bitmap;
  Be64 realtime_summary;
  Be32 realtime_extent_size;
  Be32 group_blocks;
  Be32 groups;
  Be32 realtime_bitmap_blocks;
  Be32 log_blocks;
  Be16 version;
  Be16 sector_size;
  Be16 inode_size;
  Be16 inodes_per_block;
  std::array<char, 12> label;
  std::uint8_t block_log;
  std::uint8_t sector_log;
  std::uint8_t inode_log;
  std::uint8_t inodes_per_block_log;
  std::uint8_t group_blocks_log;
  std::uint8_t realtime_extents_log;
  std::uint8_t in_progress;
  std::uint8_t most_inodes_percent;
  Be64 inodes;
  Be64 free_inodes;
  Be64 free_blocks;
  Be64 free_realtime_extents;
  Be64 user_quota_inode;
  Be64 group_quota_inode;
  Be16 quota_flags;
  std::uint8_t flags;
  std::uint8_t shared_version;
  Be32 inode_alignment;
  Be32 stripe_unit;
  Be32 stripe_width;
  std::uint8_t directory_block_log;
  std::uint8_t log_sector_log;
  Be16 log_sector_size;
  Be32 log_stripe_unit;
  Be32 features2;
  Be32 bad_features2;
  Be32 compatible;
  Be32 read_only_compatible;
  Be32 incompatible;
  Be32 log_incompatible;
  boost::endian::little_uint32_buf_t checksum;
  Be32 sparse_inode_alignment;
  Be64 project_quota_inode;
  Be64 log_sequence;
  Uuid metadata_uuid;
};
static_assert(offsetof(Superblock, uuid) == 32);
static_assert(offsetof(Superblock, group_blocks) == 84);
static_assert(offsetof(Superblock, version) == 100);
static_assert(offsetof(Superblock, block_log) == 120);
static_assert(offsetof(Superblock, inodes) == 128);
static_assert(offsetof(Superblock, features2) == 200);
static_assert(offsetof(Superblock, checksum) == 224);
static_assert(sizeof(Superblock) == 264);

constexpr std::uint32_t superblock_magic = 0x58465342;  // "XFSB"
constexpr std::uint16_t version_mask = 0x000F;
constexpr std::uint16_t folded_names = 0x4000;  // letters of both cases are one
// "Allocation Groups", superblocks: sb_features_ro_compat, sb_features_incompat.
namespace ro_compatible {
constexpr std::uint32_t free_inode_tree = 1, reverse_map = 2, shared_extents = 4,
                        inode_tree_counts = 8;
constexpr std::uint32_t known = 15;
}  // namespace ro_compatible
namespace incompatible {
constexpr std::uint32_t file_types = 1, sparse_inodes = 2, metadata_uuid = 4, big_time = 8,
                        needs_repair = 16, large_extent_counts = 32, exchanges_ranges = 64,
                        parent_pointers = 128;
constexpr std::uint32_t known = 255;
}  // namespace incompatible

// "Allocation Groups", AG free space block: the second sector of a group: its free space.
struct FreeSpaceHeader {
  Be32 magic;
  Be32 version;
  Be32 group;
  Be32 blocks;
  std::array<Be32, 3> roots;  // by block, by size, reverse map
  std::array<Be32, 3> levels;
  Be32 list_first;
  Be32 list_last;
  Be32 list_count;
  Be32 free_blocks;
  Be32 longest;
  Be32 tree_blocks;  // of the free space trees (and the reverse map), but for their roots
  Uuid uuid;
  Be32 reverse_map_blocks;
  Be32 shared_blocks;
  Be32 shared_root;
  Be32 shared_level;
  std::array<std::uint8_t, 112> spare;
  Be64 log_sequence;
  boost::endian::little_uint32_buf_t checksum;
  Be32 spare2;
};
static_assert(offsetof(FreeSpaceHeader, uuid) == 64);
static_assert(offsetof(FreeSpaceHeader, log_sequence) == 208);
static_assert(offsetof(FreeSpaceHeader, checksum) == 216);
static_assert(sizeof(FreeSpaceHeader) == 224);
constexpr std::uint32_t free_space_magic = 0x58414746;  // "XAGF"

// "Allocation Groups", AG inode management: the third sector.
struct InodeHeader {
  Be32 magic;
  Be32 version;
  Be32 group;
  Be32 blocks;
  Be32 inodes;
  Be32 root;
  Be32 level;
  Be32 free_inodes;
  Be32 newest;
  Be32 directory;
  std::array<Be32, 64> unlinked;
  Uuid uuid;
  boost::endian::little_uint32_buf_t checksum;
  Be32 padding;
  Be64 log_sequence;
  Be32 free_root;
  Be32 free_level;
  Be32 tree_blocks;
  Be32 free_tree_blocks;
};
static_assert(offsetof(InodeHeader, uuid) == 296);
static_assert(offsetof(InodeHeader, checksum) == 312);
static_assert(sizeof(InodeHeader) == 344);
constexpr std::uint32_t inode_header_magic = 0x58414749;  // "XAGI"

// "Allocation Groups", AG free list: the fourth sector: blocks kept ready for the free space trees.
struct FreeListHeader {
  Be32 magic;
  Be32 group;
  Uuid uuid;
  Be64 log_sequence;
  boost::endian::little_uint32_buf_t checksum;
};
static_assert(offsetof(FreeListHeader, checksum) == 32);
static_assert(sizeof(FreeListHeader) == 36);
constexpr std::uint32_t free_list_magic = 0x5841464C;  // "XAFL"

// "Common XFS Types", short format B+trees, those of a group.
struct TreeHeader {
  Be32 magic;
  Be16 level;
  Be16 records;
  Be32 left;
  Be32 right;
  Be64 address;
  Be64 log_sequence;
  Uuid uuid;
  Be32 owner;
  boost::endian::little_uint32_buf_t checksum;
};
static_assert(offsetof(TreeHeader, checksum) == 52);
static_assert(sizeof(TreeHeader) == 56);

// "Allocation Groups", AG free space B+trees; records and keys are alike.
struct FreeExtent {
  Be32 start;
  Be32 count;
};
static_assert(sizeof(FreeExtent) == 8);

// "Allocation Groups", inode B+trees: records.
struct InodeChunk {
  Be32 first;
  Be16 hole_mask;  // with sparse inodes
  std::uint8_t count;
  std::uint8_t free_count;
  Be64 free;
};
static_assert(sizeof(InodeChunk) == 16);
constexpr std::uint32_t inodes_per_chunk = 64;

// "Reverse-Mapping B+tree": its keys are records without their counts, low and high.
struct ReverseMapping {
  Be32 start;
  Be32 count;
  Be64 owner;
  Be64 offset;
};
static_assert(sizeof(ReverseMapping) == 24);
// In `offset`: the block belongs to the attributes, is one of the extents' own tree, reads as
// zeros.
constexpr std::uint64_t of_attributes = 1ULL << 63, of_extent_tree = 1ULL << 62,
                        not_written = 1ULL << 61;
namespace owner {
constexpr std::uint64_t filesystem = -3ULL, log = -4ULL, group = -5ULL, inode_trees = -6ULL,
                        inodes = -7ULL, shared_tree = -8ULL, copy_on_write = -9ULL;
}  // namespace owner

// "Reference Count B+tree".
struct SharedExtent {
  Be32 start;
  Be32 count;
  Be32 references;
};
static_assert(sizeof(SharedExtent) == 12);

// Magic numbers of trees, version 5.
namespace tree_magic {
constexpr std::uint32_t by_block = 0x41423342, by_size = 0x41423343, inodes = 0x49414233,
                        free_inodes = 0x46494233, reverse_map = 0x524D4233, shared = 0x52334643,
                        extents = 0x424D4133;
}  // namespace tree_magic

// "On-disk Inode": inode core, version 3.
struct Inode {
  Be16 magic;
  Be16 mode;
  std::uint8_t version;
  std::uint8_t format;
  Be16 old_links;
  Be32 user;
  Be32 owner_group;
  Be32 links;
  Be16 project_low;
  Be16 project_high;
  Be64 many_extents;  // with large extent counts; else zero
  Be64 accessed;
  Be64 modified;
  Be64 changed;
  Be64 size;
  Be64 blocks;
  Be32 extent_hint;
  Be32 extents;  // of the data; with large counts of the attributes
  Be16 attribute_extents;
  std::uint8_t fork_offset;  // of attributes, in 8 bytes
  std::uint8_t attribute_format;
  Be32 event_mask;
  Be16 event_state;
  Be16 flags;
  Be32 generation;
  Be32 next_unlinked;
  boost::endian::little_uint32_buf_t checksum;
  Be64 change_count;
  Be64 log_sequence;
  Be64 flags2;
  Be32 copy_extent_hint;
  std::array<std::uint8_t, 12> padding;
  Be64 created;
  Be64 number;
  Uuid uuid;
};
static_assert(offsetof(Inode, size) == 56);
static_assert(offsetof(Inode, extents) == 76);
static_assert(offsetof(Inode, checksum) == 100);
static_assert(offsetof(Inode, number) == 152);
static_assert(sizeof(Inode) == 176);
constexpr std::uint16_t inode_magic = 0x494E;  // "IN"
// Flags: of files, of folders (what is in them inherits it), and all.
constexpr std::uint16_t real_time = 1, extent_hint_flag = 0x0800, folder_hint_flag = 0x1000,
                        of_folders = 0x1700, known_inode_flags = 0x7FFF;
constexpr std::uint64_t direct_access = 1, shares_extents = 2, has_copy_hint = 4,
                        known_inode_flags2 = 0x1F;
constexpr std::uint32_t not_listed = 0xFFFFFFFF;     // among those that wait to be freed
constexpr std::uint64_t has_big_time = 1U << 3;      // di_flags2
constexpr std::uint64_t has_many_extents = 1U << 4;  // the same
namespace fork {
constexpr std::uint8_t device = 0, local = 1, extents = 2, tree = 3;
}  // namespace fork

// "Data Extents": a file's extent: flag, 54 bits of offset, 52 bits of block, 21 bits of count.
struct EncodedExtent {
  Be64 high;
  Be64 low;
};
static_assert(sizeof(EncodedExtent) == 16);

// "Common XFS Types", long format B+trees, those of files.
struct LongTreeHeader {
  Be32 magic;
  Be16 level;
  Be16 records;
  Be64 left;
  Be64 right;
  Be64 address;
  Be64 log_sequence;
  Uuid uuid;
  Be64 owner;
  boost::endian::little_uint32_buf_t checksum;
  Be32 padding;
};
static_assert(offsetof(LongTreeHeader, checksum) == 64);
static_assert(sizeof(LongTreeHeader) == 72);

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
