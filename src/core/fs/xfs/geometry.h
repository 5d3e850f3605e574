// Geometry: what a superblock says of its filesystem, checked before anything is computed with it.
#pragma once

#include <optional>

#include "core/fs/xfs/format.h"
#include "core/store/store.h"

namespace jh::xfs {

class Geometry {
 public:
  /// Throws damaged or unsupported, naming the field or the feature.
  explicit Geometry(Store& place);

  const Superblock& superblock() const { return super_; }
  /// What another superblock would say of the same place; it is not checked.
  Geometry with(const Superblock& super) const {
    Geometry out = *this;
    out.super_ = super;
    return out;
  }
  std::uint64_t block_size() const { return super_.block_size.value(); }
  std::uint64_t sector_size() const { return super_.sector_size.value(); }
  std::uint64_t blocks() const { return super_.blocks.value(); }
  std::uint64_t group_blocks() const { return super_.group_blocks.value(); }
  std::uint32_t groups() const { return super_.groups.value(); }
  std::uint64_t size() const { return blocks() * block_size(); }
  /// Blocks of one group; the last may be smaller.
  std::uint64_t blocks_of(std::uint32_t group) const;
  /// Where a group begins, in bytes.
  std::uint64_t group_at(std::uint32_t group) const {
    return std::uint64_t{group} * group_blocks() * block_size();
  }
  std::uint64_t block_at(std::uint32_t group, std::uint64_t block) const {
    return group_at(group) + block * block_size();
  }
  /// Of a filesystem block number, which has the group in its upper bits. Throws damaged.
  std::uint64_t block_at(std::uint64_t number) const;
  std::uint32_t group_of(std::uint64_t number) const {
    return static_cast<std::uint32_t>(number >> super_.group_blocks_log);
  }
  std::uint64_t block_in_group(std::uint64_t number) const {
    return number & ((1ULL << super_.group_blocks_log) - 1);
  }
  /// Of an inode by its number in its group.
  std::uint64_t inode_number(std::uint32_t group, std::uint64_t inside) const {
    return std::uint64_t{group} << (super_.group_blocks_log + super_.inodes_per_block_log) | inside;
  }
  /// Where an inode lies, in bytes. Throws damaged.
  std::uint64_t inode_at(std::uint64_t number) const;
  std::uint64_t directory_block() const { return block_size() << super_.directory_block_log; }

  bool has(std::uint32_t ro_feature) const {
    return (super_.read_only_compatible.value() & ro_feature) != 0;
  }
  bool is(std::uint32_t incompatible_feature) const {
    return (super_.incompatible.value() & incompatible_feature) != 0;
  }
  /// The identity that metadata carry.
  const Uuid& metadata_uuid() const {
    return is(incompatible::metadata_uuid) ? super_.metadata_uuid : super_.uuid;
  }
  /// Sectors of the four headers at a group's beginning.
  std::uint64_t header_at(std::uint32_t group, unsigned sector) const {
    return group_at(group) + sector * sector_size();
  }
  /// Blocks that the four headers take.
  std::uint64_t header_blocks() const {
    return (4 * sector_size() + block_size() - 1) / block_size();
  }
  /// What a new group gives to its headers and to the roots of its trees.
  std::uint64_t blocks_of_empty_group() const;

 private:
  void check(Store& place) const;
  void check_features() const;

  Superblock super_{};
};

/// The sector of the first superblock with another one in it, and its checksum: every copy is
/// alike.
Buffer superblock_sector(Store& place, const Geometry& geometry, const Superblock& super);

/// Smallest group that is made; what is less at the end is left over.
constexpr std::uint64_t least_group = 64;  // blocks

/// A number read from disk did not hold.
[[noreturn]] void corrupt(const std::string& what);

/// Whether the checksum of a sector or a block is right; `at`: where it is kept in it.
bool checksum_matches(ConstByteSpan block, std::size_t at);
void set_checksum(ByteSpan block, std::size_t at);

}  // namespace jh::xfs
