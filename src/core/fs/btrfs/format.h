// btrfs on disk. Source: the btrfs documentation, "On-disk Format" (the published description of
// its structures), by the names of its sections. All numbers are little-endian.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::btrfs {

using Checksum = std::array<std::uint8_t, 32>;

// "Basic Structures", key: all items of a tree are sorted by it.
struct DiskKey {
  Le64 object;
  std::uint8_t type;
  Le64 offset;
};
static_assert(sizeof(DiskKey) == 17);

// "Items", device item.
struct DeviceItem {
  Le64 id;
  Le64 size;
  Le64 used;
  Le32 io_alignment;
  Le32 io_width;
  Le32 sector_size;
  Le64 type;
  Le64 generation;
  Le64 start;
  Le32 group;
  std::uint8_t seek_speed;
  std::uint8_t bandwidth;
  Uuid uuid;
  Uuid filesystem;
};
static_assert(sizeof(DeviceItem) == 98);

// "Superblock".
struct Superblock {
  Checksum checksum;
  Uuid uuid;
  Le64 address;
  Le64 flags;
  std::array<char, 8> magic;
  Le64 generation;
  Le64 root;
  Le64 chunk_root;
  Le64 log_root;
  Le64 log_transaction;
  Le64 size;
  Le64 used;
  Le64 root_folder;
  Le64 devices;
  Le32 sector_size;
  Le32 node_size;
  Le32 leaf_size;
  Le32 stripe_size;
  Le32 system_chunks_size;
  Le64 chunk_generation;
  Le64 compatible;
  Le64 read_only_compatible;
  Le64 incompatible;
  Le16 sum_type;
  std::uint8_t root_level;
  std::uint8_t chunk_level;
  std::uint8_t log_level;
  DeviceItem device;
  std::array<char, 256> label;
  Le64 cache_generation;
  Le64 uuid_tree_generation;
  Uuid metadata_uuid;
  std::array<std::uint8_t, 224> reserved;
  std::array<std::uint8_t, 2048> system_chunks;
  std::array<std::uint8_t, 672> backup_roots;
  std::array<std::uint8_t, 565> padding;
};
static_assert(offsetof(Superblock, magic) == 64);
static_assert(offsetof(Superblock, sector_size) == 144);
static_assert(offsetof(Superblock, sum_type) == 196);
static_assert(offsetof(Superblock, device) == 201);
static_assert(offsetof(Superblock, label) == 299);
static_assert(offsetof(Superblock, metadata_uuid) == 571);
static_assert(offsetof(Superblock, system_chunks) == 811);
static_assert(sizeof(Superblock) == 4096);

constexpr std::array<std::uint64_t, 3> superblock_places{64ULL << 10, 64ULL << 20, 256ULL << 30};
// What the allocator leaves alone around each of them.
constexpr std::uint64_t superblock_room = 64 << 10;
constexpr std::uint64_t first_usable = 1 << 20;

namespace super_flag {
constexpr std::uint64_t errors = 1 << 2, seeding = 1ULL << 32, dump = 1ULL << 33 | 1ULL << 34,
                        changing_identity = 1ULL << 35 | 1ULL << 36;
}  // namespace super_flag
// "Superblock", incompat flags and compat_ro flags.
namespace incompatible {
constexpr std::uint64_t mixed_references = 1 << 0, default_subvolume = 1 << 1,
                        mixed_groups = 1 << 2, lzo = 1 << 3, zstd = 1 << 4, big_metadata = 1 << 5,
                        extended_references = 1 << 6, raid56 = 1 << 7, skinny_metadata = 1 << 8,
                        no_holes = 1 << 9, metadata_uuid = 1 << 10, raid1c34 = 1 << 11,
                        zoned = 1 << 12;
constexpr std::uint64_t known = mixed_references | default_subvolume | mixed_groups | lzo | zstd |
                                big_metadata | extended_references | skinny_metadata | no_holes |
                                metadata_uuid;
}  // namespace incompatible
namespace ro_compatible {
constexpr std::uint64_t free_space_tree = 1, free_space_valid = 2, verity = 4, block_group_tree = 8;
constexpr std::uint64_t known = 15;
}  // namespace ro_compatible
namespace sum_type {
constexpr std::uint16_t crc32c = 0, xxhash = 1, sha256 = 2, blake2 = 3;
}  // namespace sum_type

// "Block Header": of each node and leaf.
struct BlockHeader {
  Checksum checksum;
  Uuid filesystem;
  Le64 address;
  Le64 flags;
  Uuid chunk_tree;
  Le64 generation;
  Le64 owner;
  Le32 items;
  std::uint8_t level;
};
static_assert(sizeof(BlockHeader) == 101);
constexpr unsigned most_levels = 8;
namespace block_flag {
constexpr std::uint64_t written = 1 << 0, revision_mask = 0xFFULL << 56;
}  // namespace block_flag

// "Block Header", leaf: behind the header, each with its data counted from the header's end.
struct LeafItem {
  DiskKey key;
  Le32 offset;
  Le32 size;
};
static_assert(sizeof(LeafItem) == 25);
// "Block Header", internal node.
struct NodeEntry {
  DiskKey key;
  Le64 block;
  Le64 generation;
};
static_assert(sizeof(NodeEntry) == 33);

// "Items", by their types.
namespace item {
constexpr std::uint8_t inode = 1, inode_name = 12, inode_name_far = 13, attribute = 24, orphan = 48,
                       folder_name = 84, folder_index = 96, file_extent = 108, checksums = 128,
                       root = 132, root_parent = 144, root_child = 156, extent = 168,
                       metadata = 169, owner_reference = 172, tree_reference = 176,
                       data_reference = 178, shared_tree_reference = 182,
                       shared_data_reference = 184, block_group = 192, free_info = 198,
                       free_extent = 199, free_bitmap = 200, device_extent = 204, device = 216,
                       chunk = 228, temporary = 248, persistent = 249, replace = 250;
}  // namespace item
// "Items", reserved object numbers.
namespace object {
constexpr std::uint64_t root_tree = 1, extent_tree = 2, chunk_tree = 3, device_tree = 4,
                        top_files = 5, root_folder = 6, sum_tree = 7, quota_tree = 8, uuid_tree = 9,
                        free_space_tree = 10, block_group_tree = 11, first_free = 256, devices = 1;
constexpr std::uint64_t balance = -4ULL, orphan = -5ULL, log = -6ULL, relocation = -8ULL,
                        data_relocation = -9ULL, checksums = -10ULL, free_space = -11ULL,
                        last_free = -256ULL;
/// Whether the tree of this number is one of files: the top one, or a subvolume.
constexpr bool is_of_files(std::uint64_t tree) {
  return tree == top_files || (tree >= first_free && tree <= last_free);
}
/// Whether it holds inodes, as trees of files do: also the one that a balance works with.
constexpr bool has_inodes(std::uint64_t tree) {
  return is_of_files(tree) || tree == data_relocation;
}
}  // namespace object

// "Items", chunk item; its stripes follow.
struct ChunkItem {
  Le64 length;
  Le64 owner;
  Le64 stripe_length;
  Le64 type;
  Le32 io_alignment;
  Le32 io_width;
  Le32 sector_size;
  Le16 stripes;
  Le16 sub_stripes;
};
static_assert(sizeof(ChunkItem) == 48);
struct Stripe {
  Le64 device;
  Le64 offset;
  Uuid uuid;
};
static_assert(sizeof(Stripe) == 32);
namespace chunk_type {
constexpr std::uint64_t data = 1, system = 2, metadata = 4, duplicated = 1 << 5;
constexpr std::uint64_t profiles = 0x7F8;  // what is not on one device, and duplicated
}  // namespace chunk_type

// "Items", device extent.
struct DeviceExtent {
  Le64 chunk_tree;
  Le64 chunk_object;
  Le64 chunk;
  Le64 length;
  Uuid chunk_tree_uuid;
};
static_assert(sizeof(DeviceExtent) == 48);

// "Items", block group item.
struct BlockGroupItem {
  Le64 used;
  Le64 chunk_object;
  Le64 flags;
};
static_assert(sizeof(BlockGroupItem) == 24);

// "Items", inode item.
struct InodeItem {
  Le64 generation;
  Le64 transaction;
  Le64 size;
  Le64 bytes;
  Le64 group;
  Le32 links;
  Le32 user;
  Le32 owner_group;
  Le32 mode;
  Le64 device;
  Le64 flags;
  Le64 sequence;
  std::array<std::uint8_t, 32> reserved;
  std::array<std::uint8_t, 48> times;
};
static_assert(sizeof(InodeItem) == 160);
namespace inode_flag {
constexpr std::uint64_t no_sums = 1;
}  // namespace inode_flag

// "Items", root item. Older ones end behind the level.
struct RootItem {
  InodeItem inode;
  Le64 generation;
  Le64 root_folder;
  Le64 block;
  Le64 byte_limit;
  Le64 used;
  Le64 last_snapshot;
  Le64 flags;
  Le32 references;
  DiskKey dropped_until;
  std::uint8_t drop_level;
  std::uint8_t level;
};
static_assert(offsetof(RootItem, block) == 176);
static_assert(offsetof(RootItem, level) == 238);
static_assert(sizeof(RootItem) == 239);

// "Items", root references: in both directions, with the name in the folder of the parent.
struct RootName {
  Le64 folder;
  Le64 index;
  Le16 name_length;
};
static_assert(sizeof(RootName) == 18);

// "Items", directory items and extended attributes; the name follows, then the data.
struct FolderName {
  DiskKey where;
  Le64 transaction;
  Le16 data_length;
  Le16 name_length;
  std::uint8_t type;
};
static_assert(sizeof(FolderName) == 30);
struct InodeName {
  Le64 index;
  Le16 name_length;
};
static_assert(sizeof(InodeName) == 10);
struct InodeNameFar {
  Le64 parent;
  Le64 index;
  Le16 name_length;
};
static_assert(sizeof(InodeNameFar) == 18);

// "Items", file extent item; of what is not inline the second part.
struct FileExtentHead {
  Le64 generation;
  Le64 decompressed;
  std::uint8_t compression;
  std::uint8_t encryption;
  Le16 other;
  std::uint8_t type;
};
static_assert(sizeof(FileExtentHead) == 21);
struct FileExtentPlace {
  Le64 block;
  Le64 block_length;
  Le64 offset;
  Le64 length;
};
static_assert(sizeof(FileExtentPlace) == 32);
namespace extent_type {
constexpr std::uint8_t in_line = 0, regular = 1, prepared = 2;
}  // namespace extent_type
namespace compression {
constexpr std::uint8_t none = 0, zlib = 1, lzo = 2, zstd = 3;
}  // namespace compression

// "Items", extent item; references follow.
struct ExtentItem {
  Le64 references;
  Le64 generation;
  Le64 flags;
};
static_assert(sizeof(ExtentItem) == 24);
namespace extent_flag {
constexpr std::uint64_t data = 1, tree_block = 2;
}  // namespace extent_flag

// "Items", free space info.
struct FreeSpaceInfo {
  Le32 extents;
  Le32 flags;
};
static_assert(sizeof(FreeSpaceInfo) == 8);
constexpr std::uint32_t free_space_in_bitmaps = 1;

}  // namespace jh::btrfs
