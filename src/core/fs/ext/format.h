// ext2/3/4 on disk, as the Linux kernel's documentation describes it ("ext4 data structures and
// algorithms", sections named below). All integers little-endian. docs/formats/ext4.md has tables.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::ext {

constexpr std::uint64_t superblock_offset = 1024;
constexpr std::uint16_t superblock_magic = 0xEF53;

// Section "Super Block".
struct Superblock {
  Le32 inodes_count;
  Le32 blocks_count_lo;
  Le32 r_blocks_count_lo;
  Le32 free_blocks_count_lo;
  Le32 free_inodes_count;
  Le32 first_data_block;
  Le32 log_block_size;
  Le32 log_cluster_size;
  Le32 blocks_per_group;
  Le32 clusters_per_group;
  Le32 inodes_per_group;
  Le32 mtime;
  Le32 wtime;
  Le16 mnt_count;
  Le16 max_mnt_count;
  Le16 magic;
  Le16 state;
  Le16 errors;
  Le16 minor_rev_level;
  Le32 lastcheck;
  Le32 checkinterval;
  Le32 creator_os;
  Le32 rev_level;
  Le16 def_resuid;
  Le16 def_resgid;
  Le32 first_ino;
  Le16 inode_size;
  Le16 block_group_nr;
  Le32 feature_compat;
  Le32 feature_incompat;
  Le32 feature_ro_compat;
  Uuid uuid;
  std::array<char, 16> volume_name;
  std::array<char, 64> last_mounted;
  Le32 algorithm_usage_bitmap;
  std::uint8_t prealloc_blocks;
  std::uint8_t prealloc_dir_blocks;
  Le16 reserved_gdt_blocks;
  Uuid journal_uuid;
  Le32 journal_inum;
  Le32 journal_dev;
  Le32 last_orphan;
  std::array<Le32, 4> hash_seed;
  std::uint8_t def_hash_version;
  std::uint8_t jnl_backup_type;
  Le16 desc_size;
  Le32 default_mount_opts;
  Le32 first_meta_bg;
  Le32 mkfs_time;
  std::array<Le32, 17> jnl_blocks;
  Le32 blocks_count_hi;
  Le32 r_blocks_count_hi;
  Le32 free_blocks_count_hi;
  Le16 min_extra_isize;
  Le16 want_extra_isize;
  Le32 flags;
  Le16 raid_stride;
  Le16 mmp_update_interval;
  Le64 mmp_block;
  Le32 raid_stripe_width;
  std::uint8_t log_groups_per_flex;
  std::uint8_t checksum_type;
  std::uint8_t encryption_level;
  std::uint8_t reserved_pad;
  Le64 kbytes_written;
  Le32 snapshot_inum;
  Le32 snapshot_id;
  Le64 snapshot_r_blocks_count;
  Le32 snapshot_list;
  Le32 error_count;
  std::array<std::uint8_t, 0x200 - 0x198> error_details;
  std::array<char, 64> mount_opts;
  Le32 usr_quota_inum;
  Le32 grp_quota_inum;
  Le32 overhead_clusters;
  std::array<Le32, 2> backup_bgs;
  std::array<std::uint8_t, 4> encrypt_algos;
  std::array<std::uint8_t, 16> encrypt_pw_salt;
  Le32 lpf_ino;
  Le32 prj_quota_inum;
  Le32 checksum_seed;
  std::array<std::uint8_t, 8> times_hi;
  Le16 encoding;
  Le16 encoding_flags;
  Le32 orphan_file_inum;
  std::array<Le32, 94> reserved;
  Le32 checksum;
};
static_assert(sizeof(Superblock) == 1024);
static_assert(offsetof(Superblock, magic) == 0x38 && offsetof(Superblock, uuid) == 0x68);
static_assert(offsetof(Superblock, reserved_gdt_blocks) == 0xCE);
static_assert(offsetof(Superblock, jnl_blocks) == 0x10C);
static_assert(offsetof(Superblock, blocks_count_hi) == 0x150);
static_assert(offsetof(Superblock, log_groups_per_flex) == 0x174);
static_assert(offsetof(Superblock, mount_opts) == 0x200);
static_assert(offsetof(Superblock, overhead_clusters) == 0x248);
static_assert(offsetof(Superblock, checksum_seed) == 0x270);
static_assert(offsetof(Superblock, orphan_file_inum) == 0x280);
static_assert(offsetof(Superblock, checksum) == 0x3FC);

constexpr std::uint16_t state_clean = 0x0001;
constexpr std::uint16_t state_errors = 0x0002;

namespace compat {
constexpr std::uint32_t dir_prealloc = 0x1, imagic_inodes = 0x2, has_journal = 0x4, ext_attr = 0x8,
                        resize_inode = 0x10, dir_index = 0x20, sparse_super2 = 0x200,
                        fast_commit = 0x400, stable_inodes = 0x800, orphan_file = 0x1000;
}
namespace incompat {
constexpr std::uint32_t filetype = 0x2, recover = 0x4, journal_dev = 0x8, meta_bg = 0x10,
                        extents = 0x40, bit64 = 0x80, mmp = 0x100, flex_bg = 0x200,
                        ea_inode = 0x400, csum_seed = 0x2000, largedir = 0x4000,
                        inline_data = 0x8000, encrypt = 0x10000, casefold = 0x20000;
}
namespace ro_compat {
constexpr std::uint32_t sparse_super = 0x1, large_file = 0x2, btree_dir = 0x4, huge_file = 0x8,
                        gdt_csum = 0x10, dir_nlink = 0x20, extra_isize = 0x40, quota = 0x100,
                        bigalloc = 0x200, metadata_csum = 0x400, readonly = 0x1000,
                        project = 0x2000, shared_blocks = 0x4000, verity = 0x8000,
                        orphan_present = 0x10000;
}

// Section "Block Group Descriptors". The second half is there when desc_size is 64 or more.
struct GroupDescriptor {
  Le32 block_bitmap_lo;
  Le32 inode_bitmap_lo;
  Le32 inode_table_lo;
  Le16 free_blocks_count_lo;
  Le16 free_inodes_count_lo;
  Le16 used_dirs_count_lo;
  Le16 flags;
  Le32 exclude_bitmap_lo;
  Le16 block_bitmap_csum_lo;
  Le16 inode_bitmap_csum_lo;
  Le16 itable_unused_lo;
  Le16 checksum;
  Le32 block_bitmap_hi;
  Le32 inode_bitmap_hi;
  Le32 inode_table_hi;
  Le16 free_blocks_count_hi;
  Le16 free_inodes_count_hi;
  Le16 used_dirs_count_hi;
  Le16 itable_unused_hi;
  Le32 exclude_bitmap_hi;
  Le16 block_bitmap_csum_hi;
  Le16 inode_bitmap_csum_hi;
  Le32 reserved;
};
static_assert(sizeof(GroupDescriptor) == 64 && offsetof(GroupDescriptor, block_bitmap_hi) == 32);
static_assert(offsetof(GroupDescriptor, checksum) == 0x1E);

constexpr std::uint16_t group_inode_uninit = 0x1;
constexpr std::uint16_t group_block_uninit = 0x2;
constexpr std::uint16_t group_itable_zeroed = 0x4;

// Section "Index Nodes". Fields behind extra_isize are there when the inode is larger than 128.
struct Inode {
  Le16 mode;
  Le16 uid_lo;
  Le32 size_lo;
  Le32 atime;
  Le32 ctime;
  Le32 mtime;
  Le32 dtime;
  Le16 gid_lo;
  Le16 links_count;
  Le32 blocks_lo;
  Le32 flags;
  Le32 version;
  std::array<Le32, 15> block;
  Le32 generation;
  Le32 file_acl_lo;
  Le32 size_hi;
  Le32 obsolete_faddr;
  Le16 blocks_hi;
  Le16 file_acl_hi;
  Le16 uid_hi;
  Le16 gid_hi;
  Le16 checksum_lo;
  Le16 reserved;
  Le16 extra_isize;
  Le16 checksum_hi;
  Le32 ctime_extra;
  Le32 mtime_extra;
  Le32 atime_extra;
  Le32 crtime;
  Le32 crtime_extra;
  Le32 version_hi;
  Le32 projid;
};
static_assert(sizeof(Inode) == 160 && offsetof(Inode, block) == 0x28);
static_assert(offsetof(Inode, checksum_lo) == 0x7C && offsetof(Inode, checksum_hi) == 0x82);
constexpr std::uint32_t old_inode_size = 128;

constexpr std::uint32_t bad_blocks_ino = 1, root_ino = 2, resize_ino = 7, journal_ino = 8;
constexpr std::uint32_t old_first_ino = 11;

constexpr std::uint16_t mode_type = 0xF000, mode_fifo = 0x1000, mode_char = 0x2000,
                        mode_dir = 0x4000, mode_block = 0x6000, mode_file = 0x8000,
                        mode_link = 0xA000, mode_socket = 0xC000;

constexpr std::uint32_t flag_index = 0x1000;       // hashed directory
constexpr std::uint32_t flag_imagic = 0x2000;      // of a file server that no longer exists
constexpr std::uint32_t flag_huge_file = 0x40000;  // blocks counted in filesystem blocks
constexpr std::uint32_t flag_extents = 0x80000;
constexpr std::uint32_t flag_ea_inode = 0x200000;
constexpr std::uint32_t flag_inline_data = 0x10000000;
constexpr std::uint32_t flag_encrypt = 0x800;
constexpr std::uint32_t flag_casefold = 0x40000000;

// Section "Extent Tree".
constexpr std::uint16_t extent_magic = 0xF30A;
constexpr std::uint32_t max_extent_depth = 5;
struct ExtentHeader {
  Le16 magic;
  Le16 entries;
  Le16 max;
  Le16 depth;
  Le32 generation;
};
struct ExtentIndex {
  Le32 block;
  Le32 leaf_lo;
  Le16 leaf_hi;
  Le16 unused;
};
struct Extent {
  Le32 block;
  Le16 len;  // above 32768: unwritten, length less 32768
  Le16 start_hi;
  Le32 start_lo;
};
static_assert(sizeof(ExtentHeader) == 12 && sizeof(ExtentIndex) == 12 && sizeof(Extent) == 12);
constexpr std::uint32_t max_written_extent = 32768;

// Section "Directory Entries".
struct DirEntry {
  Le32 inode;
  Le16 rec_len;
  std::uint8_t name_len;
  std::uint8_t file_type;
};
static_assert(sizeof(DirEntry) == 8);
struct DirTail {
  Le32 zero_inode;
  Le16 rec_len;  // 12
  std::uint8_t zero_name_len;
  std::uint8_t file_type;  // dir_tail_type
  Le32 checksum;
};
static_assert(sizeof(DirTail) == 12);
constexpr std::uint8_t dir_tail_type = 0xDE;

constexpr std::uint32_t super_flag_unsigned_hash = 2;  // of Superblock::flags
struct IndexRootInfo {
  Le32 reserved_zero;
  std::uint8_t hash_version;
  std::uint8_t info_length;
  std::uint8_t indirect_levels;
  std::uint8_t unused_flags;
};
struct IndexCountLimit {
  Le16 limit;
  Le16 count;
  Le32 block;
};
struct IndexTail {
  Le32 reserved;
  Le32 checksum;
};
static_assert(sizeof(IndexRootInfo) == 8 && sizeof(IndexCountLimit) == 8 && sizeof(IndexTail) == 8);

// Section "Extended Attributes".
constexpr std::uint32_t xattr_magic = 0xEA020000;
struct XattrHeader {
  Le32 magic;
  Le32 refcount;
  Le32 blocks;
  Le32 hash;
  Le32 checksum;
  std::array<Le32, 3> reserved;
};
static_assert(sizeof(XattrHeader) == 32);
struct XattrEntry {
  std::uint8_t name_len;
  std::uint8_t name_index;
  Le16 value_offs;
  Le32 value_inum;
  Le32 value_size;
  Le32 hash;
};
static_assert(sizeof(XattrEntry) == 16);
constexpr std::uint8_t xattr_index_system = 7;  // "system.": inline data keeps its rest there
constexpr std::uint8_t xattr_index_encryption = 9;

// Section "Multiple Mount Protection".
constexpr std::uint32_t mmp_magic = 0x004D4D50;
constexpr std::uint32_t mmp_clean = 0xFF4D4D50;
constexpr std::uint32_t mmp_fsck = 0xE24D4D50;
struct MmpBlock {
  Le32 magic;
  Le32 seq;
  Le64 time;
  std::array<char, 64> nodename;
  std::array<char, 32> bdevname;
  Le16 check_interval;
  Le16 pad1;
  std::array<Le32, 226> pad2;
  Le32 checksum;
};
static_assert(sizeof(MmpBlock) == 1024 && offsetof(MmpBlock, checksum) == 0x3FC);

// Section "Orphan file": the last 8 bytes of each of its blocks.
constexpr std::uint32_t orphan_block_magic = 0x0B10CA04;
struct OrphanTail {
  Le32 magic;
  Le32 checksum;
};
static_assert(sizeof(OrphanTail) == 8);

}  // namespace jh::ext
