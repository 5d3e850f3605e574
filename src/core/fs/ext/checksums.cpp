#include "core/fs/ext/checksums.h"

#include "core/base/checksum.h"

namespace jh::ext {
namespace {

std::uint32_t chain32(std::uint32_t seed, std::uint32_t value) {
  Le32 raw;
  raw = value;
  return crc32c_raw(seed, bytes_of(raw));
}

constexpr std::array<std::uint8_t, 4> zeros{};

}  // namespace

Checksums::Checksums(const Superblock& super, const Geometry& geometry)
    : geometry_(geometry), uuid_(super.uuid) {
  seed_ = geometry.has_incompat(incompat::csum_seed) ? super.checksum_seed.value()
                                                     : crc32c_raw(~0U, super.uuid);
}

std::uint32_t Checksums::superblock(const Superblock& super) {
  return crc32c_raw(~0U, bytes_of(super).first(offsetof(Superblock, checksum)));
}

std::uint16_t Checksums::descriptor(std::uint32_t group, ConstByteSpan raw) const {
  constexpr std::size_t at = offsetof(GroupDescriptor, checksum);
  constexpr std::size_t behind = at + 2;
  Le32 number;
  number = group;
  if (geometry_.metadata_csum()) {
    std::uint32_t checksum = crc32c_raw(seed_, bytes_of(number));
    checksum = crc32c_raw(checksum, raw.first(at));
    checksum = crc32c_raw(checksum, ConstByteSpan(zeros).first(2));
    checksum = crc32c_raw(checksum, raw.subspan(behind));
    return static_cast<std::uint16_t>(checksum & 0xFFFF);
  }
  std::uint16_t checksum = crc16(0xFFFF, uuid_);
  checksum = crc16(checksum, bytes_of(number));
  checksum = crc16(checksum, raw.first(at));
  return crc16(checksum, raw.subspan(behind));
}

std::uint32_t Checksums::block_bitmap(ConstByteSpan bitmap) const {
  return crc32c_raw(seed_, bitmap.first(geometry_.clusters_per_group / 8));
}

std::uint32_t Checksums::inode_bitmap(ConstByteSpan bitmap) const {
  return crc32c_raw(seed_, bitmap.first((geometry_.inodes_per_group + 7) / 8));
}

std::uint32_t Checksums::inode_seed(std::uint32_t ino, std::uint32_t generation) const {
  return chain32(chain32(seed_, ino), generation);
}

bool inode_has_checksum_hi(const Geometry& geometry, const Inode& inode) {
  constexpr std::size_t end = offsetof(Inode, checksum_hi) + 2 - old_inode_size;
  return geometry.inode_size > old_inode_size && inode.extra_isize.value() >= end;
}

std::uint32_t Checksums::inode(std::uint32_t ino, ConstByteSpan raw) const {
  constexpr std::size_t lo = offsetof(Inode, checksum_lo);
  constexpr std::size_t hi = offsetof(Inode, checksum_hi);
  const auto generation = parse_as<Le32>(raw, offsetof(Inode, generation));
  std::uint32_t checksum = inode_seed(ino, generation.value());
  checksum = crc32c_raw(checksum, raw.first(lo));
  checksum = crc32c_raw(checksum, ConstByteSpan(zeros).first(2));
  checksum = crc32c_raw(checksum, raw.subspan(lo + 2, old_inode_size - lo - 2));
  if (raw.size() <= old_inode_size) return checksum;
  const auto extra = parse_as<Le16>(raw, offsetof(Inode, extra_isize));
  checksum = crc32c_raw(checksum, raw.subspan(old_inode_size, hi - old_inode_size));
  const bool has_hi = extra.value() >= hi + 2 - old_inode_size;
  checksum = crc32c_raw(checksum, has_hi ? ConstByteSpan(zeros).first(2) : raw.subspan(hi, 2));
  return crc32c_raw(checksum, raw.subspan(hi + 2));
}

std::uint32_t Checksums::xattr_block(std::uint64_t block, ConstByteSpan raw) const {
  constexpr std::size_t at = offsetof(XattrHeader, checksum);
  Le64 number;
  number = block;
  std::uint32_t checksum = crc32c_raw(seed_, bytes_of(number));
  checksum = crc32c_raw(checksum, raw.first(at));
  checksum = crc32c_raw(checksum, zeros);
  return crc32c_raw(checksum, raw.subspan(at + 4));
}

std::uint32_t Checksums::index_block(std::uint32_t seed, ConstByteSpan raw, std::size_t used,
                                     std::size_t tail_at) {
  const std::uint32_t checksum = crc32c_raw(seed, raw.first(used));
  return crc32c_raw(crc32c_raw(checksum, raw.subspan(tail_at, sizeof(IndexTail::reserved))), zeros);
}

std::uint32_t Checksums::mmp(const MmpBlock& block) const {
  return crc32c_raw(seed_, bytes_of(block).first(offsetof(MmpBlock, checksum)));
}

bool attribute_hash_holds(ConstByteSpan area, std::size_t at) {
  const auto entry = parse_as<XattrEntry>(area, at);
  const std::size_t name_at = at + sizeof(XattrEntry);
  if (entry.name_len > area.size() - name_at) return false;
  std::uint32_t hash = 0;
  std::uint32_t signed_hash = 0;
  for (std::size_t i = 0; i < entry.name_len; ++i) {
    const std::uint8_t c = area[name_at + i];
    const auto sign_extended =
        static_cast<std::uint32_t>(static_cast<std::int32_t>(static_cast<std::int8_t>(c)));
    hash = (hash << 5) ^ (hash >> 27) ^ c;
    signed_hash = (signed_hash << 5) ^ (signed_hash >> 27) ^ sign_extended;
  }
  const std::size_t words = (entry.value_size.value() + 3U) / 4;
  for (std::size_t i = 0; i < words; ++i) {
    const std::size_t word_at = entry.value_offs.value() + i * 4;
    if (word_at + 4 > area.size()) return false;
    const std::uint32_t word = parse_as<Le32>(area, word_at).value();
    hash = (hash << 16) ^ (hash >> 16) ^ word;
    signed_hash = (signed_hash << 16) ^ (signed_hash >> 16) ^ word;
  }
  return entry.hash.value() == hash || entry.hash.value() == signed_hash;
}

}  // namespace jh::ext
