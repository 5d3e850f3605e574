#include "core/fs/xfs/geometry.h"

#include <fmt/format.h>

#include "core/base/checksum.h"

namespace jh::xfs {

void corrupt(const std::string& what) { damaged(what, "XFS"); }

Geometry::Geometry(Store& place) : super_(read_as<Superblock>(place, 0)) {
  if (super_.magic.value() != superblock_magic) corrupt("there is no superblock");
  const std::uint16_t version = super_.version.value() & version_mask;
  if (version != 5)
    unsupported(fmt::format("XFS of version {} has no checksums, and is left alone", version),
                "XFS", "grow it inside the guest, while it is mounted");
  check(place);
  check_features();
}

void Geometry::check(Store& place) const {
  const std::uint64_t block = block_size();
  const std::uint64_t sector = sector_size();
  const auto power = [](std::uint64_t value, unsigned log) {
    return log < 64 && value == 1ULL << log;
  };
  if (!power(block, super_.block_log) || block < 512 || block > 65536)
    corrupt("the superblock has an impossible block size");
  if (!power(sector, super_.sector_log) || sector < 512 || sector > 32768 || sector > block)
    corrupt("the superblock has an impossible sector size");
  const std::uint64_t inode = super_.inode_size.value();
  if (!power(inode, super_.inode_log) || inode < 512 || inode > 2048 || inode > block)
    corrupt("the superblock has an impossible inode size");
  if (super_.inodes_per_block_log != super_.block_log - super_.inode_log)
    corrupt("the superblock's inodes per block are wrong");
  if (super_.group_blocks_log == 0 || super_.group_blocks_log > 31 ||
      group_blocks() > 1ULL << super_.group_blocks_log || group_blocks() < least_group)
    corrupt("the superblock has an impossible size of groups");
  if (groups() == 0 || blocks() > group_blocks() * groups() ||
      blocks() <= group_blocks() * (groups() - 1) ||
      blocks() - group_blocks() * (groups() - 1) < least_group)
    corrupt("the superblock's groups do not add up to its blocks");
  if (blocks() > place.size() / block)
    corrupt("the superblock says more blocks than its place holds");
  if (super_.directory_block_log > 16 - super_.block_log)
    corrupt("the superblock has an impossible size of directory blocks");
  Buffer first = read_buffer(place, 0, sector);
  if (!checksum_matches(first, offsetof(Superblock, checksum)))
    corrupt("the superblock's checksum is wrong");
  if (super_.in_progress != 0) corrupt("the filesystem was not made to its end");
}

void Geometry::check_features() const {
  const auto refuse_feature = [](const std::string& what) {
    unsupported(what, "XFS", "grow it inside the guest, while it is mounted");
  };
  if ((super_.incompatible.value() & ~incompatible::known) != 0)
    refuse_feature(fmt::format("incompatible features {:#x} are not known",
                               super_.incompatible.value() & ~incompatible::known));
  if ((super_.read_only_compatible.value() & ~ro_compatible::known) != 0)
    refuse_feature(fmt::format("features {:#x} are not known",
                               super_.read_only_compatible.value() & ~ro_compatible::known));
  if (super_.realtime_blocks.value() != 0) refuse_feature("it has a realtime device");
  if (super_.log_start.value() == 0) refuse_feature("its log is on another device");
  if (is(incompatible::needs_repair))
    throw Error(Status::refused, "the filesystem is marked as to be repaired", "XFS",
                "let the guest repair it first")
        .with_reason(Reason::errors_noted);
  if (const std::uint64_t end =
          block_in_group(super_.log_start.value()) + super_.log_blocks.value();
      group_of(super_.log_start.value()) >= groups() ||
      end > blocks_of(group_of(super_.log_start.value())))
    corrupt("the log does not lie in a group");
}

std::uint64_t Geometry::blocks_of(std::uint32_t group) const {
  return group + 1 < groups() ? group_blocks() : blocks() - group_blocks() * (groups() - 1);
}

std::uint64_t Geometry::block_at(std::uint64_t number) const {
  const std::uint64_t group = number >> super_.group_blocks_log;
  if (group >= groups() || block_in_group(number) >= blocks_of(static_cast<std::uint32_t>(group)))
    corrupt(fmt::format("block {} lies outside of the filesystem", number));
  return block_at(static_cast<std::uint32_t>(group), block_in_group(number));
}

std::uint64_t Geometry::inode_at(std::uint64_t number) const {
  const unsigned in_block = super_.inodes_per_block_log;
  const std::uint64_t block = number >> in_block;
  if (block >> (super_.group_blocks_log + 32) != 0) corrupt("an inode number is impossible");
  return block_at(block) + (number & ((1ULL << in_block) - 1)) * super_.inode_size.value();
}

std::uint64_t Geometry::blocks_of_empty_group() const {
  // By block, by size, inodes; and what the features add.
  std::uint64_t blocks = header_blocks() + 3;
  if (has(ro_compatible::free_inode_tree)) ++blocks;
  if (has(ro_compatible::reverse_map)) ++blocks;
  if (has(ro_compatible::shared_extents)) ++blocks;
  return blocks;
}

bool checksum_matches(ConstByteSpan block, std::size_t at) {
  const auto kept = parse_as<Le32>(block, at).value();
  Buffer copy(block.begin(), block.end());
  put_at(copy, at, Le32(0));
  return crc32c(copy) == kept;
}

void set_checksum(ByteSpan block, std::size_t at) {
  put_at(block, at, Le32(0));
  put_at(block, at, Le32(crc32c(block)));
}

Buffer superblock_sector(Store& place, const Geometry& geometry, const Superblock& super) {
  Buffer sector = read_buffer(place, 0, geometry.sector_size());
  put_at(sector, 0, super);
  set_checksum(sector, offsetof(Superblock, checksum));
  return sector;
}

}  // namespace jh::xfs
