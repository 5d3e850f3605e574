// The checksums of ext4 metadata ("Checksums" in the kernel's documentation).
#pragma once

#include "core/fs/ext/geometry.h"

namespace jh::ext {

/// All checksums of one filesystem start from its seed.
class Checksums {
 public:
  Checksums() = default;
  Checksums(const Superblock& super, const Geometry& geometry);

  static std::uint32_t superblock(const Superblock& super);
  /// 16 bits, by metadata_csum or the older way; `raw` is desc_size bytes.
  std::uint16_t descriptor(std::uint32_t group, ConstByteSpan raw) const;
  std::uint32_t block_bitmap(ConstByteSpan bitmap) const;
  std::uint32_t inode_bitmap(ConstByteSpan bitmap) const;
  /// Over the raw inode with its checksum fields taken as zero.
  std::uint32_t inode(std::uint32_t ino, ConstByteSpan raw) const;
  /// What everything that belongs to one inode starts from.
  std::uint32_t inode_seed(std::uint32_t ino, std::uint32_t generation) const;
  std::uint32_t xattr_block(std::uint64_t block, ConstByteSpan raw) const;
  /// Of a node of a directory's index: its entries end at `used`, its tail stands at `tail_at`.
  static std::uint32_t index_block(std::uint32_t seed, ConstByteSpan raw, std::size_t used,
                                   std::size_t tail_at);
  std::uint32_t mmp(const MmpBlock& block) const;
  std::uint32_t seed() const { return seed_; }

 private:
  Geometry geometry_;
  Uuid uuid_{};
  std::uint32_t seed_ = 0;
};

/// Whether the larger inode has the upper half of its checksum.
bool inode_has_checksum_hi(const Geometry& geometry, const Inode& inode);

/// Whether the hash of the attribute entry at `at` of `area` is that of its name and value; long
/// ago the name's characters were taken as signed by some machines.
bool attribute_hash_holds(ConstByteSpan area, std::size_t at);

}  // namespace jh::ext
