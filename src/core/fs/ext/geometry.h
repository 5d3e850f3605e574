// Geometry: what the superblock says about sizes and places, checked once, then trusted.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/fs/ext/format.h"
#include "core/store/store.h"

namespace jh::ext {

/// A run of blocks; `count` may be zero.
struct BlockRange {
  std::uint64_t start = 0;
  std::uint64_t count = 0;
  std::uint64_t end() const { return start + count; }
};

/// Derived from a superblock; every number is in filesystem blocks unless named otherwise.
struct Geometry {
  std::uint32_t block_size = 0;  // bytes
  std::uint64_t blocks = 0;
  std::uint32_t first_data_block = 0;
  std::uint32_t blocks_per_group = 0;
  std::uint32_t cluster_ratio = 1;  // blocks per cluster
  std::uint32_t clusters_per_group = 0;
  std::uint32_t inodes_per_group = 0;
  std::uint32_t inode_size = 0;     // bytes
  std::uint32_t itable_blocks = 0;  // inode table of one group
  std::uint32_t group_count = 0;
  std::uint32_t desc_size = 0;  // bytes
  std::uint32_t desc_per_block = 0;
  std::uint32_t desc_blocks = 0;  // of the whole descriptor table
  std::uint32_t reserved_gdt = 0;
  std::uint32_t groups_per_flex = 1;
  std::uint32_t first_meta_bg = 0;
  std::uint32_t first_ino = old_first_ino;
  std::uint32_t compat = 0, incompat = 0, ro_compat = 0;
  std::array<std::uint32_t, 2> backup_bgs{};

  bool has_compat(std::uint32_t feature) const { return (compat & feature) != 0; }
  bool has_incompat(std::uint32_t feature) const { return (incompat & feature) != 0; }
  bool has_ro_compat(std::uint32_t feature) const { return (ro_compat & feature) != 0; }
  bool metadata_csum() const { return has_ro_compat(ro_compat::metadata_csum); }
  /// Groups may be left unwritten, and say so in flags that a checksum protects.
  bool lazy_groups() const { return metadata_csum() || has_ro_compat(ro_compat::gdt_csum); }
  bool meta_bg() const { return has_incompat(incompat::meta_bg); }

  std::uint64_t inodes() const { return std::uint64_t{group_count} * inodes_per_group; }
  std::uint64_t offset(std::uint64_t block) const { return block * block_size; }
  std::uint64_t group_first(std::uint32_t group) const {
    return first_data_block + std::uint64_t{group} * blocks_per_group;
  }
  std::uint32_t group_blocks(std::uint32_t group) const;
  std::uint32_t group_clusters(std::uint32_t group) const {
    return (group_blocks(group) + cluster_ratio - 1) / cluster_ratio;
  }
  std::uint32_t group_of(std::uint64_t block) const {
    return static_cast<std::uint32_t>((block - first_data_block) / blocks_per_group);
  }
  bool is_block(std::uint64_t block) const { return block >= first_data_block && block < blocks; }

  /// Whether this group holds a copy of the superblock.
  bool has_super(std::uint32_t group) const;
  /// Where that copy is, in bytes.
  std::uint64_t super_offset(std::uint32_t group) const;
  /// Groups other than 0 with a copy, in order.
  std::vector<std::uint32_t> backup_groups() const;
  /// Descriptor blocks that lie behind each superblock copy (without meta_bg: all of them).
  std::uint32_t old_desc_blocks() const {
    return meta_bg() ? std::min(first_meta_bg, desc_blocks) : desc_blocks;
  }
  /// Where a group's copy of the descriptor table begins (only groups with a superblock copy).
  std::uint64_t gdt_start(std::uint32_t group) const;
  /// All copies of one block of the descriptor table, the primary one first.
  std::vector<std::uint64_t> descriptor_copies(std::uint32_t desc_block) const;
  /// Superblock copy, descriptors and reserved descriptors at the head of a group.
  std::vector<BlockRange> base_metadata(std::uint32_t group) const;
  std::uint64_t base_metadata_blocks(std::uint32_t group) const;

  /// The same filesystem with another number of blocks: counts derived from it follow.
  /// `reserved` descriptor blocks give way to real ones as far as they go.
  Geometry resized(std::uint64_t new_blocks) const;
};

/// Checks a superblock against itself and the size of what it lies on. Throws damaged, unsupported.
Geometry read_geometry(const Superblock& super, std::uint64_t store_size);
/// Names of features that this program does not know, or does not read; empty when all is well.
std::string unreadable_features(const Superblock& super);
/// Throws unsupported, by name, when a feature forbids changing the filesystem.
void check_changeable(const Superblock& super);
/// The features in the words of the format, in a fixed order.
std::vector<std::string> feature_names(const Superblock& super);

}  // namespace jh::ext
