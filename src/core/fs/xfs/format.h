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

}  // namespace jh::xfs
