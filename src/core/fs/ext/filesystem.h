// An ext filesystem on a store: superblock, group descriptors, bitmaps and inodes, read and written
// with their checksums. Nothing is cached but the superblock and the descriptor table.
#pragma once

#include "core/fs/ext/checksums.h"
#include "core/fs/ext/geometry.h"
#include "core/store/store.h"

namespace jh::ext {

/// What a technician does about a journal, or a list of orphans, that cannot be followed.
inline constexpr const char* start_the_guest_first =
    "let the guest start and shut down properly, then run again";

/// A group descriptor with both halves of its fields joined.
struct Group {
  std::uint64_t block_bitmap = 0;
  std::uint64_t inode_bitmap = 0;
  std::uint64_t inode_table = 0;
  std::uint32_t free_clusters = 0;
  std::uint32_t free_inodes = 0;
  std::uint32_t used_dirs = 0;
  std::uint32_t itable_unused = 0;
  std::uint16_t flags = 0;
  std::uint32_t block_bitmap_csum = 0;
  std::uint32_t inode_bitmap_csum = 0;
  bool block_uninit() const { return (flags & group_block_uninit) != 0; }
  bool inode_uninit() const { return (flags & group_inode_uninit) != 0; }
};

/// An inode as stored: `raw` is inode_size bytes, `fields` its known part.
struct InodeRecord {
  std::uint32_t ino = 0;
  Inode fields{};
  Buffer raw;
  std::uint16_t type() const { return fields.mode.value() & mode_type; }
  bool has_flag(std::uint32_t flag) const { return (fields.flags.value() & flag) != 0; }
  std::uint64_t size() const {
    return fields.size_lo.value() | std::uint64_t{fields.size_hi.value()} << 32;
  }
  /// The block of its extended attributes; 0: none.
  std::uint64_t attribute_block() const {
    return fields.file_acl_lo.value() | std::uint64_t{fields.file_acl_hi.value()} << 32;
  }
  /// What is counted for it, in units of count_unit().
  std::uint64_t counted() const {
    return fields.blocks_lo.value() | std::uint64_t{fields.blocks_hi.value()} << 32;
  }
  void set_counted(std::uint64_t units) {
    fields.blocks_lo = static_cast<std::uint32_t>(units & 0xFFFFFFFF);
    fields.blocks_hi = static_cast<std::uint16_t>(units >> 32);
  }
  /// How many units a block counts: sectors of 512 bytes, or one where the inode says so.
  std::uint64_t count_unit(const Geometry& g) const {
    return g.has_ro_compat(ro_compat::huge_file) && has_flag(flag_huge_file) ? 1
                                                                             : g.block_size / 512;
  }
  /// Puts the changed fields into the raw bytes.
  void store_fields();
};

class Filesystem {
 public:
  static bool recognise(Store& store);
  /// Reads and checks the superblock and the descriptor table. Throws damaged, unsupported.
  explicit Filesystem(Store& store);

  Store& store() { return store_; }
  const Geometry& geometry() const { return geometry_; }
  const Superblock& super() const { return super_; }
  const Checksums& checksums() const { return checksums_; }
  std::string label() const;

  Buffer read_block(std::uint64_t block);
  /// Throws damaged when the run does not lie within the filesystem.
  void check_run(std::uint64_t start, std::uint64_t count) const;

  Group group(std::uint32_t number) const;
  ConstByteSpan raw_descriptor(std::uint32_t number) const;
  bool descriptor_checksum_ok(std::uint32_t number) const;
  /// The block bitmap (clusters_per_group bits); for a group whose bitmap was never written, the
  /// one it stands for.
  Buffer block_bitmap(std::uint32_t number);
  Buffer inode_bitmap(std::uint32_t number);
  bool block_bitmap_checksum_ok(const Group& group, ConstByteSpan bitmap) const;
  bool inode_bitmap_checksum_ok(const Group& group, ConstByteSpan bitmap) const;
  /// The bitmap of a group that holds nothing but metadata, with the bits past its end set.
  /// `also` are further groups' bitmaps and tables that may lie in it.
  Buffer fresh_block_bitmap(std::uint32_t number, const Group& own,
                            const std::vector<BlockRange>& also) const;
  /// Free clusters of a group whose bitmap was never written.
  std::uint32_t fresh_free_clusters(std::uint32_t number, const Group& own) const;

  std::uint64_t inode_offset(std::uint32_t ino) const;
  InodeRecord read_inode(std::uint32_t ino);
  bool inode_checksum_ok(const InodeRecord& inode) const;
  /// What the checksums of an inode's own blocks begin with.
  std::uint32_t seed_of(const InodeRecord& inode) const {
    return checksums_.inode_seed(inode.ino, inode.fields.generation.value());
  }
  void write_inode(InodeRecord& inode);  // sets the checksum

  std::uint64_t free_clusters() const;
  std::uint64_t reserved_blocks() const;

  /// Changes to the parts kept in memory; write_super and write_descriptors bring them out.
  void set_super(const Superblock& super, const Geometry& geometry);
  /// Sets checksums too, when `bitmap`s are given their checksums are taken.
  void set_group(std::uint32_t number, Group group);
  Superblock& edit_super() { return super_; }
  void set_free_clusters(Superblock& super, std::uint64_t clusters) const;
  /// The primary superblock, or the copy in `group`, with its checksum.
  void write_super(std::uint32_t group);
  /// The raw bytes of one block of the descriptor table.
  ConstByteSpan descriptor_block(std::uint32_t desc_block) const {
    return descriptor_blocks(desc_block, 1);
  }
  ConstByteSpan descriptor_blocks(std::uint32_t first, std::uint32_t count) const;

 private:
  Store& store_;
  Superblock super_{};
  Geometry geometry_;
  Checksums checksums_;
  Buffer descriptors_;
};

/// Bits of a bitmap in the order of the format: bit 0 is the lowest of byte 0.
bool test_bit(ConstByteSpan bitmap, std::uint64_t bit);
void set_bit(ByteSpan bitmap, std::uint64_t bit);
void clear_bit(ByteSpan bitmap, std::uint64_t bit);
void set_bits(ByteSpan bitmap, std::uint64_t first, std::uint64_t count);
/// The first bit from `from` on that is not `value`; `end` when there is none before it.
std::uint64_t end_of_run(ConstByteSpan bitmap, std::uint64_t from, std::uint64_t end, bool value);
std::uint64_t count_zero_bits(ConstByteSpan bitmap, std::uint64_t bits);

}  // namespace jh::ext
