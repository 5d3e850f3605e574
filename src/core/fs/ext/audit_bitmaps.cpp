// Bitmaps and the counts that are derived from them.
#include <algorithm>
#include <bit>
#include <cstring>

#include "core/fs/ext/audit_state.h"

namespace jh::ext {
namespace {

// The first bit from `from` on in which a bitmap differs from what was found in use, which begins
// at `first`; `end` when there is none.
std::uint64_t next_difference(ConstByteSpan bitmap, const Bits& found, std::uint64_t first,
                              std::uint64_t from, std::uint64_t end) {
  while (from < end) {
    if (from % 64 == 0 && from + 64 <= std::min<std::uint64_t>(end, bitmap.size() * 8)) {
      std::uint64_t word = 0;
      std::memcpy(&word, bitmap.data() + from / 8, sizeof(word));
      if (const std::uint64_t differs = word ^ found.word_at(first + from); differs != 0)
        return from + static_cast<unsigned>(std::countr_zero(differs));
      from += 64;
      continue;
    }
    if (test_bit(bitmap, from) != found.test(first + from)) return from;
    ++from;
  }
  return end;
}

// Names the first difference only: a lost bitmap differs everywhere.
void compare_blocks(AuditState& state, std::uint32_t number, ConstByteSpan bitmap) {
  const Geometry& g = state.fs.geometry();
  const std::uint64_t first = std::uint64_t{number} * g.clusters_per_group;
  std::uint64_t wrong_used = 0;
  std::uint64_t wrong_free = 0;
  std::uint64_t example = 0;
  const std::uint64_t end = g.group_clusters(number);
  const auto next = [&](std::uint64_t from) {
    return next_difference(bitmap, state.claimed, first, from, end);
  };
  for (std::uint64_t bit = next(0); bit < end; bit = next(bit + 1)) {
    if (wrong_used + wrong_free == 0)
      example = g.first_data_block + (first + bit) * g.cluster_ratio;
    ++(test_bit(bitmap, bit) ? wrong_used : wrong_free);
  }
  if (wrong_used + wrong_free != 0)
    state.find(fmt::format("group {}", number),
               "the block bitmap is wrong: {} in use but marked free, {} free but marked in use, "
               "from block {} on",
               wrong_free, wrong_used, example);
}

void compare_inodes(AuditState& state, std::uint32_t number, ConstByteSpan bitmap) {
  const Geometry& g = state.fs.geometry();
  const std::uint64_t first = std::uint64_t{number} * g.inodes_per_group + 1;
  std::uint64_t bit = 0;
  // Those before the first one that files get are in use, whatever is in them.
  while (first + bit < g.first_ino && bit < g.inodes_per_group && test_bit(bitmap, bit)) ++bit;
  if (first + bit >= g.first_ino)
    bit = next_difference(bitmap, state.used, first, bit, g.inodes_per_group);
  if (bit == g.inodes_per_group) return;
  state.find(fmt::format("group {}", number), "the inode bitmap is wrong: inode {} is {}",
             first + bit,
             test_bit(bitmap, bit) ? "free but marked in use" : "in use but marked free");
}

void check_padding(AuditState& state, std::uint32_t number, ConstByteSpan bitmap,
                   std::uint64_t from, const char* what) {
  bool set = true;
  std::uint64_t bit = from;
  for (; bit % 8 != 0 && bit < 8ULL * bitmap.size(); ++bit) set = set && test_bit(bitmap, bit);
  const ConstByteSpan rest = bitmap.subspan(bit / 8);
  set =
      set && std::all_of(rest.begin(), rest.end(), [](std::uint8_t byte) { return byte == 0xFF; });
  if (!set)
    state.find(fmt::format("group {}", number), "the padding of its {} bitmap is not set", what);
}

}  // namespace

void audit_bitmaps(AuditState& state, std::uint32_t first_group, bool against_use) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  std::uint64_t free_clusters = 0;
  std::uint64_t free_inodes = 0;
  for (std::uint32_t number = 0; number < g.group_count; ++number) {
    const Group group = fs.group(number);
    free_clusters += group.free_clusters;
    free_inodes += group.free_inodes;
    if (number < first_group) continue;
    if (!g.is_block(group.block_bitmap) || !g.is_block(group.inode_bitmap)) continue;
    const auto where = [number] { return fmt::format("group {}", number); };
    const bool blocks_wanted = against_use || !group.block_uninit();
    const bool inodes_wanted = against_use || !group.inode_uninit();
    const Buffer blocks = blocks_wanted ? fs.block_bitmap(number) : Buffer();
    const Buffer inodes = inodes_wanted ? fs.inode_bitmap(number) : Buffer();
    if (!fs.block_bitmap_checksum_ok(group, blocks))
      state.find(where(), "the checksum of its block bitmap is wrong");
    if (!fs.inode_bitmap_checksum_ok(group, inodes))
      state.find(where(), "the checksum of its inode bitmap is wrong");
    if (!group.block_uninit())
      check_padding(state, number, blocks, g.group_clusters(number), "block");
    if (!group.inode_uninit()) check_padding(state, number, inodes, g.inodes_per_group, "inode");
    const std::uint64_t block_zeros = blocks_wanted
                                          ? count_zero_bits(blocks, g.group_clusters(number))
                                          : fs.fresh_free_clusters(number, group);
    if (block_zeros != group.free_clusters)
      state.find(where(), "{} clusters are free, but its descriptor says {}", block_zeros,
                 group.free_clusters);
    const std::uint64_t inode_zeros =
        inodes_wanted ? count_zero_bits(inodes, g.inodes_per_group) : g.inodes_per_group;
    if (inode_zeros != group.free_inodes)
      state.find(where(), "{} inodes are free, but its descriptor says {}", inode_zeros,
                 group.free_inodes);
    if (!against_use) continue;
    compare_blocks(state, number, blocks);
    compare_inodes(state, number, inodes);
    if (state.group_dirs[number] != group.used_dirs)
      state.find(where(), "it has {} directories, but its descriptor says {}",
                 state.group_dirs[number], group.used_dirs);
  }
  if (free_clusters != fs.free_clusters())
    state.find("superblock", "the groups have {} free clusters, but the superblock says {}",
               free_clusters, fs.free_clusters());
  if (free_inodes != fs.super().free_inodes_count.value())
    state.find("superblock", "the groups have {} free inodes, but the superblock says {}",
               free_inodes, fs.super().free_inodes_count.value());
}

}  // namespace jh::ext
