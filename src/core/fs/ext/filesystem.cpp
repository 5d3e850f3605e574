#include "core/fs/ext/filesystem.h"

#include <fmt/format.h>

#include <bit>

namespace jh::ext {

void InodeRecord::store_fields() {
  const std::size_t known = std::min(raw.size(), sizeof(Inode));
  std::memcpy(raw.data(), &fields, known);
}

bool Filesystem::recognise(Store& store) {
  if (store.size() < superblock_offset + sizeof(Superblock)) return false;
  const auto magic = read_as<Le16>(store, superblock_offset + offsetof(Superblock, magic));
  return magic.value() == superblock_magic;
}

Filesystem::Filesystem(Store& store) : store_(store) {
  super_ = read_as<Superblock>(store, superblock_offset);
  geometry_ = read_geometry(super_, store.size());
  if (geometry_.metadata_csum()) {
    if (super_.checksum_type != 1)
      unsupported(fmt::format("checksums of type {}", super_.checksum_type), "ext superblock");
    if (Checksums::superblock(super_) != super_.checksum.value())
      damaged("the superblock's checksum is wrong", "ext superblock",
              "check the filesystem inside the guest first");
  }
  checksums_ = Checksums(super_, geometry_);
  descriptors_.resize(std::size_t{geometry_.desc_blocks} * geometry_.block_size);
  for (std::uint32_t i = 0; i < geometry_.desc_blocks;) {
    // The table is one run up to first_meta_bg, and single blocks behind it.
    const bool run = !geometry_.meta_bg() || i < geometry_.first_meta_bg;
    const std::uint32_t count = run ? geometry_.old_desc_blocks() : 1;
    const std::uint64_t at = run ? geometry_.gdt_start(0) : geometry_.descriptor_copies(i).front();
    check_run(at, count);
    store.read(geometry_.offset(at), ByteSpan(descriptors_)
                                         .subspan(std::size_t{i} * geometry_.block_size,
                                                  std::size_t{count} * geometry_.block_size));
    i += count;
  }
}

std::string Filesystem::label() const {
  const auto& name = super_.volume_name;
  return {name.begin(), std::find(name.begin(), name.end(), '\0')};
}

void Filesystem::check_run(std::uint64_t start, std::uint64_t count) const {
  if (start >= geometry_.blocks || count > geometry_.blocks - start)
    damaged(fmt::format("blocks {} to {} lie past the filesystem's {} blocks", start, start + count,
                        geometry_.blocks),
            "ext filesystem", "check the filesystem inside the guest first");
}

Buffer Filesystem::read_block(std::uint64_t block) {
  check_run(block, 1);
  return read_buffer(store_, geometry_.offset(block), geometry_.block_size);
}

ConstByteSpan Filesystem::raw_descriptor(std::uint32_t number) const {
  ensure(number < geometry_.group_count, "the group exists");
  return ConstByteSpan(descriptors_)
      .subspan(std::size_t{number / geometry_.desc_per_block} * geometry_.block_size +
                   std::size_t{number % geometry_.desc_per_block} * geometry_.desc_size,
               geometry_.desc_size);
}

Group Filesystem::group(std::uint32_t number) const {
  GroupDescriptor d{};
  const ConstByteSpan raw = raw_descriptor(number);
  std::memcpy(&d, raw.data(), std::min(raw.size(), sizeof(d)));
  const auto join = [](std::uint64_t lo, std::uint64_t hi, int shift) { return lo | hi << shift; };
  Group g;
  g.block_bitmap = join(d.block_bitmap_lo.value(), d.block_bitmap_hi.value(), 32);
  g.inode_bitmap = join(d.inode_bitmap_lo.value(), d.inode_bitmap_hi.value(), 32);
  g.inode_table = join(d.inode_table_lo.value(), d.inode_table_hi.value(), 32);
  const auto join32 = [&](std::uint64_t lo, std::uint64_t hi) {
    return static_cast<std::uint32_t>(join(lo, hi, 16));
  };
  g.free_clusters = join32(d.free_blocks_count_lo.value(), d.free_blocks_count_hi.value());
  g.free_inodes = join32(d.free_inodes_count_lo.value(), d.free_inodes_count_hi.value());
  g.used_dirs = join32(d.used_dirs_count_lo.value(), d.used_dirs_count_hi.value());
  g.itable_unused = join32(d.itable_unused_lo.value(), d.itable_unused_hi.value());
  g.flags = geometry_.lazy_groups() ? d.flags.value() : 0;
  g.block_bitmap_csum = join32(d.block_bitmap_csum_lo.value(), d.block_bitmap_csum_hi.value());
  g.inode_bitmap_csum = join32(d.inode_bitmap_csum_lo.value(), d.inode_bitmap_csum_hi.value());
  if (!geometry_.lazy_groups()) g.itable_unused = 0;
  return g;
}

void Filesystem::set_group(std::uint32_t number, Group g) {
  const std::size_t size = geometry_.desc_size;
  const std::size_t at = std::size_t{number / geometry_.desc_per_block} * geometry_.block_size +
                         std::size_t{number % geometry_.desc_per_block} * size;
  GroupDescriptor d{};
  ByteSpan raw = ByteSpan(descriptors_).subspan(at, size);
  std::memcpy(&d, raw.data(), std::min(size, sizeof(d)));
  const auto lo16 = [](std::uint32_t v) { return static_cast<std::uint16_t>(v & 0xFFFF); };
  const auto hi16 = [](std::uint32_t v) { return static_cast<std::uint16_t>(v >> 16); };
  const auto lo32 = [](std::uint64_t v) { return static_cast<std::uint32_t>(v & 0xFFFFFFFF); };
  const auto hi32 = [](std::uint64_t v) { return static_cast<std::uint32_t>(v >> 32); };
  d.block_bitmap_lo = lo32(g.block_bitmap);
  d.inode_bitmap_lo = lo32(g.inode_bitmap);
  d.inode_table_lo = lo32(g.inode_table);
  d.free_blocks_count_lo = lo16(g.free_clusters);
  d.free_inodes_count_lo = lo16(g.free_inodes);
  d.used_dirs_count_lo = lo16(g.used_dirs);
  if (geometry_.lazy_groups()) {
    d.flags = g.flags;
    d.itable_unused_lo = lo16(g.itable_unused);
  }
  if (geometry_.metadata_csum()) {
    d.block_bitmap_csum_lo = lo16(g.block_bitmap_csum);
    d.inode_bitmap_csum_lo = lo16(g.inode_bitmap_csum);
  }
  if (size >= sizeof(d)) {
    d.block_bitmap_hi = hi32(g.block_bitmap);
    d.inode_bitmap_hi = hi32(g.inode_bitmap);
    d.inode_table_hi = hi32(g.inode_table);
    d.free_blocks_count_hi = hi16(g.free_clusters);
    d.free_inodes_count_hi = hi16(g.free_inodes);
    d.used_dirs_count_hi = hi16(g.used_dirs);
    if (geometry_.lazy_groups()) d.itable_unused_hi = hi16(g.itable_unused);
    if (geometry_.metadata_csum()) {
      d.block_bitmap_csum_hi = hi16(g.block_bitmap_csum);
      d.inode_bitmap_csum_hi = hi16(g.inode_bitmap_csum);
    }
  }
  std::memcpy(raw.data(), &d, std::min(size, sizeof(d)));
  if (geometry_.lazy_groups()) {
    d.checksum = checksums_.descriptor(number, raw);
    std::memcpy(raw.data(), &d, std::min(size, sizeof(d)));
  }
}

bool Filesystem::descriptor_checksum_ok(std::uint32_t number) const {
  if (!geometry_.lazy_groups()) return true;
  const ConstByteSpan raw = raw_descriptor(number);
  return parse_as<Le16>(raw, offsetof(GroupDescriptor, checksum)).value() ==
         checksums_.descriptor(number, raw);
}

Buffer Filesystem::fresh_block_bitmap(std::uint32_t number, const Group& own,
                                      const std::vector<BlockRange>& also) const {
  Buffer bitmap(geometry_.block_size);
  const std::uint64_t first = geometry_.group_first(number);
  const std::uint64_t end = first + geometry_.blocks_per_group;
  const auto mark = [&](const BlockRange& run) {
    const std::uint64_t from = std::max(run.start, first);
    const std::uint64_t to = std::min(run.end(), end);
    if (from >= to) return;
    const std::uint64_t bit = (from - first) / geometry_.cluster_ratio;
    set_bits(bitmap, bit, (to - 1 - first) / geometry_.cluster_ratio - bit + 1);
  };
  for (const BlockRange& run : geometry_.base_metadata(number)) mark(run);
  mark({own.block_bitmap, 1});
  mark({own.inode_bitmap, 1});
  mark({own.inode_table, geometry_.itable_blocks});
  for (const BlockRange& run : also) mark(run);
  // Bits past the group's last cluster, and past the bitmap's own length, are set.
  const std::uint32_t clusters = geometry_.group_clusters(number);
  set_bits(bitmap, clusters, 8ULL * geometry_.block_size - clusters);
  return bitmap;
}

std::uint32_t Filesystem::fresh_free_clusters(std::uint32_t number, const Group& own) const {
  const std::uint32_t clusters = geometry_.group_clusters(number);
  if (geometry_.cluster_ratio != 1)  // blocks of one cluster must not be counted twice
    return static_cast<std::uint32_t>(
        count_zero_bits(fresh_block_bitmap(number, own, {}), clusters));
  const std::uint64_t first = geometry_.group_first(number);
  const std::uint64_t end = first + clusters;
  std::uint64_t taken = 0;
  const auto take = [&](const BlockRange& run) {
    const std::uint64_t from = std::max(run.start, first);
    const std::uint64_t to = std::min(run.end(), end);
    if (from < to) taken += to - from;
  };
  for (const BlockRange& run : geometry_.base_metadata(number)) take(run);
  take({own.block_bitmap, 1});
  take({own.inode_bitmap, 1});
  take({own.inode_table, geometry_.itable_blocks});
  return static_cast<std::uint32_t>(clusters - std::min<std::uint64_t>(taken, clusters));
}

Buffer Filesystem::block_bitmap(std::uint32_t number) {
  const Group g = group(number);
  if (g.block_uninit()) return fresh_block_bitmap(number, g, {});
  return read_block(g.block_bitmap);
}

Buffer Filesystem::inode_bitmap(std::uint32_t number) {
  const Group g = group(number);
  if (!g.inode_uninit()) return read_block(g.inode_bitmap);
  Buffer bitmap(geometry_.block_size);
  set_bits(bitmap, geometry_.inodes_per_group,
           8ULL * geometry_.block_size - geometry_.inodes_per_group);
  return bitmap;
}

bool Filesystem::block_bitmap_checksum_ok(const Group& g, ConstByteSpan bitmap) const {
  if (!geometry_.metadata_csum() || g.block_uninit()) return true;
  const std::uint32_t mask = geometry_.desc_size >= sizeof(GroupDescriptor) ? ~0U : 0xFFFFU;
  return ((checksums_.block_bitmap(bitmap) ^ g.block_bitmap_csum) & mask) == 0;
}

bool Filesystem::inode_bitmap_checksum_ok(const Group& g, ConstByteSpan bitmap) const {
  if (!geometry_.metadata_csum() || g.inode_uninit()) return true;
  const std::uint32_t mask = geometry_.desc_size >= sizeof(GroupDescriptor) ? ~0U : 0xFFFFU;
  return ((checksums_.inode_bitmap(bitmap) ^ g.inode_bitmap_csum) & mask) == 0;
}

std::uint64_t Filesystem::inode_offset(std::uint32_t ino) const {
  if (ino == 0 || ino > geometry_.inodes())
    damaged(fmt::format("inode {} does not exist", ino), "ext filesystem",
            "check the filesystem inside the guest first");
  const std::uint32_t index = ino - 1;
  const Group g = group(index / geometry_.inodes_per_group);
  check_run(g.inode_table, geometry_.itable_blocks);
  return geometry_.offset(g.inode_table) +
         std::uint64_t{index % geometry_.inodes_per_group} * geometry_.inode_size;
}

InodeRecord Filesystem::read_inode(std::uint32_t ino) {
  InodeRecord record;
  record.ino = ino;
  record.raw = read_buffer(store_, inode_offset(ino), geometry_.inode_size);
  std::memcpy(&record.fields, record.raw.data(), std::min(record.raw.size(), sizeof(Inode)));
  return record;
}

bool Filesystem::inode_checksum_ok(const InodeRecord& inode) const {
  if (!geometry_.metadata_csum()) return true;
  const std::uint32_t checksum = checksums_.inode(inode.ino, inode.raw);
  if ((checksum & 0xFFFF) != inode.fields.checksum_lo.value()) return false;
  return !inode_has_checksum_hi(geometry_, inode.fields) ||
         (checksum >> 16) == inode.fields.checksum_hi.value();
}

void Filesystem::write_inode(InodeRecord& inode) {
  inode.store_fields();
  if (geometry_.metadata_csum()) {
    const std::uint32_t checksum = checksums_.inode(inode.ino, inode.raw);
    inode.fields.checksum_lo = static_cast<std::uint16_t>(checksum & 0xFFFF);
    if (inode_has_checksum_hi(geometry_, inode.fields))
      inode.fields.checksum_hi = static_cast<std::uint16_t>(checksum >> 16);
    inode.store_fields();
  }
  store_.write(inode_offset(inode.ino), inode.raw);
}

std::uint64_t Filesystem::free_clusters() const {
  std::uint64_t blocks = super_.free_blocks_count_lo.value();
  if (geometry_.has_incompat(incompat::bit64))
    blocks |= std::uint64_t{super_.free_blocks_count_hi.value()} << 32;
  return blocks / geometry_.cluster_ratio;
}

std::uint64_t Filesystem::reserved_blocks() const {
  std::uint64_t blocks = super_.r_blocks_count_lo.value();
  if (geometry_.has_incompat(incompat::bit64))
    blocks |= std::uint64_t{super_.r_blocks_count_hi.value()} << 32;
  return blocks;
}

void Filesystem::set_free_clusters(Superblock& super, std::uint64_t clusters) const {
  const std::uint64_t blocks = checked_mul(clusters, geometry_.cluster_ratio);
  super.free_blocks_count_lo = static_cast<std::uint32_t>(blocks & 0xFFFFFFFF);
  if (geometry_.has_incompat(incompat::bit64))
    super.free_blocks_count_hi = static_cast<std::uint32_t>(blocks >> 32);
}

void Filesystem::set_super(const Superblock& super, const Geometry& geometry) {
  super_ = super;
  geometry_ = geometry;
  checksums_ = Checksums(super, geometry);
  descriptors_.resize(std::size_t{geometry.desc_blocks} * geometry.block_size);
}

void Filesystem::write_super(std::uint32_t group) {
  Superblock copy = super_;
  copy.block_group_nr = static_cast<std::uint16_t>(group & 0xFFFF);
  if (geometry_.metadata_csum()) copy.checksum = Checksums::superblock(copy);
  if (group == 0) super_ = copy;
  store_.write(geometry_.super_offset(group), bytes_of(copy));
}

ConstByteSpan Filesystem::descriptor_blocks(std::uint32_t first, std::uint32_t count) const {
  return ConstByteSpan(descriptors_)
      .subspan(std::size_t{first} * geometry_.block_size,
               std::size_t{count} * geometry_.block_size);
}

bool test_bit(ConstByteSpan bitmap, std::uint64_t bit) {
  return (bitmap[bit / 8] >> (bit % 8) & 1) != 0;
}
void set_bit(ByteSpan bitmap, std::uint64_t bit) {
  bitmap[bit / 8] = static_cast<std::uint8_t>(bitmap[bit / 8] | 1U << (bit % 8));
}
void clear_bit(ByteSpan bitmap, std::uint64_t bit) {
  bitmap[bit / 8] = static_cast<std::uint8_t>(bitmap[bit / 8] & ~(1U << (bit % 8)));
}
std::uint64_t end_of_run(ConstByteSpan bitmap, std::uint64_t from, std::uint64_t end, bool value) {
  static_assert(std::endian::native == std::endian::little);
  while (from < end) {
    const std::uint64_t first = from / 64 * 64;
    if (first + 64 > bitmap.size() * 8) {
      if (test_bit(bitmap, from) != value) return from;
      ++from;
      continue;
    }
    std::uint64_t word = 0;
    std::memcpy(&word, bitmap.data() + first / 8, 8);
    const std::uint64_t others = (value ? ~word : word) >> (from - first);
    if (others != 0) return std::min(end, from + static_cast<unsigned>(std::countr_zero(others)));
    from = first + 64;
  }
  return end;
}
void set_bits(ByteSpan bitmap, std::uint64_t first, std::uint64_t count) {
  for (; count != 0 && first % 8 != 0; ++first, --count) set_bit(bitmap, first);
  std::memset(bitmap.data() + first / 8, 0xFF, count / 8);
  for (first += count / 8 * 8, count %= 8; count != 0; ++first, --count) set_bit(bitmap, first);
}
// Bits are counted by an instruction where the processor has it; every 64-bit one runs the program.
#if defined(__x86_64__) && !defined(__SANITIZE_ADDRESS__) && !defined(__clang__)
__attribute__((target_clones("popcnt", "default")))
#endif
std::uint64_t
count_zero_bits(ConstByteSpan bitmap, std::uint64_t bits) {
  std::uint64_t ones = 0;
  std::uint64_t at = 0;
  constexpr std::uint64_t piece = 4096;
  while (at < bits) {
    // Most of a new group's bitmap is zero, and seen to be so at memory speed.
    const std::uint64_t here = std::min(piece, bits - at);
    if (here == piece && all_zero(bitmap.subspan(at / 8, piece / 8))) {
      at += piece;
      continue;
    }
    const std::uint64_t end = at + here;
    for (; at + 64 <= end; at += 64) {
      std::uint64_t word = 0;
      std::memcpy(&word, bitmap.data() + at / 8, 8);
      ones += static_cast<std::uint64_t>(std::popcount(word));
    }
    for (; at < end; ++at) ones += test_bit(bitmap, at) ? 1 : 0;
  }
  return bits - ones;
}

}  // namespace jh::ext
