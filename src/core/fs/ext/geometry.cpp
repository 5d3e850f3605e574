#include "core/fs/ext/geometry.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

namespace jh::ext {
namespace {

bool is_power_of(std::uint32_t number, std::uint32_t base) {
  std::uint64_t power = base;
  while (power < number) power *= base;
  return power == number;
}

enum class Handling { full, refuse_change, refuse };
struct Feature {
  int set;  // 0 compat, 1 incompat, 2 ro_compat
  std::uint32_t bit;
  const char* name;
  Handling handling;
};

// Every bit that the documentation names. Those not listed are unknown and refused as numbers.
constexpr Feature features[] = {
    {0, compat::has_journal, "has_journal", Handling::full},
    {0, compat::ext_attr, "ext_attr", Handling::full},
    {0, compat::resize_inode, "resize_inode", Handling::full},
    {0, compat::dir_index, "dir_index", Handling::full},
    {0, compat::dir_prealloc, "dir_prealloc", Handling::full},
    {0, compat::imagic_inodes, "imagic_inodes", Handling::refuse_change},
    {0, 0x40, "lazy_bg", Handling::refuse_change},
    {0, 0x80, "exclude_inode", Handling::refuse_change},
    {0, 0x100, "exclude_bitmap", Handling::refuse_change},
    {0, compat::sparse_super2, "sparse_super2", Handling::full},
    {0, compat::fast_commit, "fast_commit", Handling::full},
    {0, compat::stable_inodes, "stable_inodes", Handling::full},
    {0, compat::orphan_file, "orphan_file", Handling::full},
    {1, 0x1, "compression", Handling::refuse},
    {1, incompat::filetype, "filetype", Handling::full},
    {1, incompat::recover, "needs_recovery", Handling::full},
    {1, incompat::journal_dev, "journal_dev", Handling::refuse},
    {1, incompat::meta_bg, "meta_bg", Handling::full},
    {1, incompat::extents, "extent", Handling::full},
    {1, incompat::bit64, "64bit", Handling::full},
    {1, incompat::mmp, "mmp", Handling::full},
    {1, incompat::flex_bg, "flex_bg", Handling::full},
    {1, incompat::ea_inode, "ea_inode", Handling::full},
    {1, 0x1000, "dirdata", Handling::refuse},
    {1, incompat::csum_seed, "metadata_csum_seed", Handling::full},
    {1, incompat::largedir, "large_dir", Handling::full},
    {1, incompat::inline_data, "inline_data", Handling::full},
    {1, incompat::encrypt, "encrypt", Handling::full},
    {1, incompat::casefold, "casefold", Handling::full},
    {2, ro_compat::sparse_super, "sparse_super", Handling::full},
    {2, ro_compat::large_file, "large_file", Handling::full},
    {2, ro_compat::btree_dir, "btree_dir", Handling::full},
    {2, ro_compat::huge_file, "huge_file", Handling::full},
    {2, ro_compat::gdt_csum, "uninit_bg", Handling::full},
    {2, ro_compat::dir_nlink, "dir_nlink", Handling::full},
    {2, ro_compat::extra_isize, "extra_isize", Handling::full},
    {2, 0x80, "has_snapshot", Handling::refuse_change},
    {2, ro_compat::quota, "quota", Handling::full},
    {2, ro_compat::bigalloc, "bigalloc", Handling::full},
    {2, ro_compat::metadata_csum, "metadata_csum", Handling::full},
    {2, 0x800, "replica", Handling::refuse_change},
    {2, ro_compat::readonly, "read-only", Handling::refuse_change},
    {2, ro_compat::project, "project", Handling::full},
    {2, ro_compat::shared_blocks, "shared_blocks", Handling::refuse_change},
    {2, ro_compat::verity, "verity", Handling::full},
    {2, ro_compat::orphan_present, "orphan_present", Handling::full},
};

std::uint32_t bits_of(const Superblock& super, int set) {
  return set == 0   ? super.feature_compat.value()
         : set == 1 ? super.feature_incompat.value()
                    : super.feature_ro_compat.value();
}

std::vector<std::string> features_at_or_above(const Superblock& super, Handling limit) {
  std::vector<std::string> names;
  for (const Feature& feature : features)
    if ((bits_of(super, feature.set) & feature.bit) != 0 && feature.handling >= limit)
      names.emplace_back(feature.name);
  static constexpr const char* set_names[] = {"compatible", "incompatible", "read-only compatible"};
  for (int set = 0; set < 3; ++set) {
    // An unknown bit of the incompatible set forbids reading; of the others, changing.
    if (limit == Handling::refuse && set != 1) continue;
    std::uint32_t unknown = bits_of(super, set);
    for (const Feature& feature : features)
      if (feature.set == set) unknown &= ~feature.bit;
    if (unknown != 0) names.push_back(fmt::format("unknown {} 0x{:x}", set_names[set], unknown));
  }
  return names;
}

}  // namespace

std::uint32_t Geometry::group_blocks(std::uint32_t group) const {
  const std::uint64_t first = group_first(group);
  return static_cast<std::uint32_t>(
      std::min<std::uint64_t>(blocks_per_group, blocks - std::min(blocks, first)));
}

bool Geometry::has_super(std::uint32_t group) const {
  if (group == 0) return true;
  if (has_compat(compat::sparse_super2)) return group == backup_bgs[0] || group == backup_bgs[1];
  if (group == 1 || !has_ro_compat(ro_compat::sparse_super)) return true;
  return group % 2 == 1 &&
         (is_power_of(group, 3) || is_power_of(group, 5) || is_power_of(group, 7));
}

std::uint64_t Geometry::super_offset(std::uint32_t group) const {
  return group == 0 ? superblock_offset : offset(group_first(group));
}

std::vector<std::uint32_t> Geometry::backup_groups() const {
  std::vector<std::uint32_t> groups;
  for (std::uint32_t group = 1; group < group_count; ++group)
    if (has_super(group)) groups.push_back(group);
  return groups;
}

std::uint64_t Geometry::gdt_start(std::uint32_t group) const {
  // The primary superblock lies 1024 bytes into the disk: in block 1 when blocks are so small.
  if (group == 0) return block_size == 1024 ? 2 : 1;
  return group_first(group) + 1;
}

std::vector<std::uint64_t> Geometry::descriptor_copies(std::uint32_t desc_block) const {
  std::vector<std::uint64_t> copies;
  if (!meta_bg() || desc_block < first_meta_bg) {
    copies.push_back(gdt_start(0) + desc_block);
    for (const std::uint32_t group : backup_groups()) {
      if (meta_bg() && group / desc_per_block >= first_meta_bg) break;
      copies.push_back(gdt_start(group) + desc_block);
    }
    return copies;
  }
  const std::uint32_t first = desc_block * desc_per_block;
  for (const std::uint32_t group : {first, first + 1, first + desc_per_block - 1}) {
    if (group >= group_count) break;
    std::uint64_t at = group_first(group) + (has_super(group) ? 1 : 0);
    if (group == 0) at = gdt_start(0);
    copies.push_back(at);
  }
  return copies;
}

std::vector<BlockRange> Geometry::base_metadata(std::uint32_t group) const {
  std::vector<BlockRange> runs;
  const bool super = has_super(group);
  const bool old_style = !meta_bg() || group / desc_per_block < first_meta_bg;
  if (super) {
    const std::uint64_t first = group_first(group);
    const std::uint64_t gdt = gdt_start(group);
    std::uint64_t end = gdt;
    if (old_style) end += old_desc_blocks() + (meta_bg() ? 0 : reserved_gdt);
    runs.push_back({first, end - first});
  }
  if (!old_style) {
    const std::uint32_t place = group % desc_per_block;
    if (place == 0 || place == 1 || place == desc_per_block - 1) {
      const std::uint64_t at = group == 0 ? gdt_start(0) : group_first(group) + (super ? 1 : 0);
      if (!runs.empty() && runs.back().end() == at) {
        ++runs.back().count;
      } else {
        runs.push_back({at, 1});
      }
    }
  }
  return runs;
}

std::uint64_t Geometry::base_metadata_blocks(std::uint32_t group) const {
  std::uint64_t total = 0;
  for (const BlockRange& run : base_metadata(group)) total += run.count;
  return total;
}

Geometry Geometry::resized(std::uint64_t new_blocks) const {
  Geometry out = *this;
  out.blocks = new_blocks;
  out.group_count = checked_cast<std::uint32_t>(
      ceil_div(checked_sub(new_blocks, first_data_block), blocks_per_group));
  out.desc_blocks = static_cast<std::uint32_t>(ceil_div(out.group_count, desc_per_block));
  if (!meta_bg() && out.desc_blocks > desc_blocks) {
    const std::uint32_t more = out.desc_blocks - desc_blocks;
    out.reserved_gdt -= std::min(more, reserved_gdt);
  }
  return out;
}

Geometry read_geometry(const Superblock& super, std::uint64_t store_size) {
  const auto corrupt = [](const std::string& what) {
    damaged("the superblock is damaged: " + what, "ext superblock",
            "check the filesystem inside the guest first");
  };
  if (super.magic.value() != superblock_magic) corrupt("no signature");
  if (const std::string names = unreadable_features(super); !names.empty())
    unsupported("the ext filesystem has features that are not supported: " + names,
                "ext superblock", "grow it inside the guest, or give the room to another target");
  Geometry g;
  g.compat = super.feature_compat.value();
  g.incompat = super.feature_incompat.value();
  g.ro_compat = super.feature_ro_compat.value();
  const std::uint32_t log_block = super.log_block_size.value();
  if (log_block > 6) corrupt(fmt::format("block size 2^{}", 10 + log_block));
  g.block_size = 1024U << log_block;
  g.blocks = super.blocks_count_lo.value();
  if (g.has_incompat(incompat::bit64))
    g.blocks |= std::uint64_t{super.blocks_count_hi.value()} << 32;
  g.first_data_block = super.first_data_block.value();
  const bool bigalloc = g.has_ro_compat(ro_compat::bigalloc);
  if (g.first_data_block != (g.block_size == 1024 && !bigalloc ? 1U : 0U))
    corrupt(fmt::format("first data block {}", g.first_data_block));
  g.blocks_per_group = super.blocks_per_group.value();
  // Without bigalloc a cluster is a block, and the fields say so.
  const std::uint32_t log_cluster = super.log_cluster_size.value();
  if (log_cluster < log_block || log_cluster > (bigalloc ? 20 + log_block : log_block))
    corrupt(fmt::format("clusters of 2^{} bytes for blocks of {}", 10 + std::uint64_t{log_cluster},
                        g.block_size));
  g.cluster_ratio = 1U << (log_cluster - log_block);
  g.clusters_per_group = super.clusters_per_group.value();
  if (std::uint64_t{g.clusters_per_group} * g.cluster_ratio != g.blocks_per_group)
    corrupt("clusters per group do not fit blocks per group");
  if (g.clusters_per_group == 0 || g.clusters_per_group > 8ULL * g.block_size ||
      g.clusters_per_group % 8 != 0)
    corrupt(fmt::format("{} clusters per group", g.clusters_per_group));
  if (g.blocks <= g.first_data_block) corrupt(fmt::format("{} blocks", g.blocks));
  if (g.blocks > store_size / g.block_size)
    damaged(fmt::format("the filesystem says it has {} blocks of {} bytes, but what it lies on "
                        "holds only {}",
                        g.blocks, g.block_size, store_size / g.block_size),
            "ext superblock",
            "the partition or disk was cut below the filesystem; restore it to its former size");
  const std::uint64_t groups = ceil_div(g.blocks - g.first_data_block, g.blocks_per_group);
  if (groups > UINT32_MAX) corrupt("too many block groups");
  g.group_count = static_cast<std::uint32_t>(groups);
  g.inodes_per_group = super.inodes_per_group.value();
  g.inode_size = super.rev_level.value() == 0 ? old_inode_size : super.inode_size.value();
  if (g.inode_size < old_inode_size || g.inode_size > g.block_size ||
      !is_power_of_two(g.inode_size))
    corrupt(fmt::format("inode size {}", g.inode_size));
  if (g.inodes_per_group == 0 || g.inodes_per_group > 8ULL * g.block_size)
    corrupt(fmt::format("{} inodes per group", g.inodes_per_group));
  if (g.inodes() != super.inodes_count.value())
    corrupt(fmt::format("{} inodes, but {} groups of {}", super.inodes_count.value(), g.group_count,
                        g.inodes_per_group));
  g.itable_blocks = static_cast<std::uint32_t>(
      ceil_div(std::uint64_t{g.inodes_per_group} * g.inode_size, g.block_size));
  if (g.itable_blocks + 3ULL > g.blocks_per_group) corrupt("inode table larger than its group");
  g.desc_size = 32;
  if (g.has_incompat(incompat::bit64)) {
    g.desc_size = super.desc_size.value();
    if (g.desc_size < 64 || g.desc_size > g.block_size || !is_power_of_two(g.desc_size))
      corrupt(fmt::format("descriptor size {}", g.desc_size));
  }
  g.desc_per_block = g.block_size / g.desc_size;
  g.desc_blocks = static_cast<std::uint32_t>(ceil_div(g.group_count, g.desc_per_block));
  g.reserved_gdt = g.has_compat(compat::resize_inode) ? super.reserved_gdt_blocks.value() : 0;
  if (g.reserved_gdt > g.block_size / 4) corrupt("more reserved descriptor blocks than possible");
  if (g.meta_bg()) {
    g.first_meta_bg = super.first_meta_bg.value();
    if (g.has_compat(compat::resize_inode)) corrupt("both meta_bg and resize_inode");
    if (g.first_meta_bg > g.desc_blocks) corrupt("first_meta_bg lies behind the last group");
  }
  const std::uint64_t base = g.gdt_start(0) + g.old_desc_blocks() + g.reserved_gdt;
  if (base > std::min<std::uint64_t>(g.blocks, g.group_first(0) + g.blocks_per_group))
    corrupt("the descriptor table does not fit into the first group");
  g.backup_bgs = {super.backup_bgs[0].value(), super.backup_bgs[1].value()};
  if (g.has_incompat(incompat::flex_bg)) {
    if (super.log_groups_per_flex > 31) corrupt("flexible group size");
    g.groups_per_flex = 1U << super.log_groups_per_flex;
  }
  g.first_ino = super.rev_level.value() == 0 ? old_first_ino : super.first_ino.value();
  if (g.first_ino < old_first_ino || g.first_ino > g.inodes()) corrupt("first inode number");
  return g;
}

std::string unreadable_features(const Superblock& super) {
  return fmt::format("{}", fmt::join(features_at_or_above(super, Handling::refuse), ", "));
}

void check_changeable(const Superblock& super) {
  const auto names = features_at_or_above(super, Handling::refuse_change);
  if (!names.empty())
    unsupported(fmt::format("the ext filesystem has features that cannot be changed: {}",
                            fmt::join(names, ", ")),
                "ext superblock", "grow it inside the guest, or give the room to another target");
  if (super.rev_level.value() > 1)
    unsupported(fmt::format("the ext filesystem has revision {}", super.rev_level.value()),
                "ext superblock", "grow it inside the guest");
}

std::vector<std::string> feature_names(const Superblock& super) {
  return features_at_or_above(super, Handling::full);
}

}  // namespace jh::ext
