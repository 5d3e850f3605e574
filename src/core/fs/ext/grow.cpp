#include "core/fs/ext/grow.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/multiprecision/cpp_int.hpp>

#include "core/base/sizes.h"

namespace jh::ext {
namespace {

// Groups whose metadata is placed together; larger flexible groups are taken in such pieces.
constexpr std::uint32_t most_groups_together = 128;
void refuse_beyond(const Geometry& g, std::uint64_t limit, const std::string& why) {
  const Bytes most(checked_mul(limit, g.block_size));
  refuse(
      fmt::format("this ext filesystem cannot become larger than {}: {}", spelled_out(most), why),
      "ext filesystem", "ask for no more, or use --give with another target for the rest");
}

// A group that existed before and was not full: its bitmap gets the blocks it lacked.
std::uint64_t extend_last_group(Filesystem& fs, const Geometry& before, Buffer bitmap) {
  const Geometry& after = fs.geometry();
  const std::uint32_t last = before.group_count - 1;
  const std::uint32_t old_clusters = before.group_clusters(last);
  const std::uint32_t new_clusters = after.group_clusters(last);
  Group group = fs.group(last);
  const bool still_last = last + 1 == after.group_count;
  if (old_clusters == new_clusters && !(group.block_uninit() && still_last)) return 0;
  for (std::uint32_t bit = old_clusters; bit < new_clusters; ++bit) clear_bit(bitmap, bit);
  group.free_clusters += new_clusters - old_clusters;
  if (!group.block_uninit() || still_last) {
    group.flags &= static_cast<std::uint16_t>(~group_block_uninit);
    fs.store().write(after.offset(group.block_bitmap), bitmap);
    if (after.metadata_csum()) group.block_bitmap_csum = fs.checksums().block_bitmap(bitmap);
  }
  fs.set_group(last, group);
  return new_clusters - old_clusters;
}

// Whether the inode tables of these groups read as zeros already, as in the new part of a sparse
// image: then the guest is spared clearing them. They lie side by side more often than not.
bool tables_are_zero(Filesystem& fs, const std::vector<NewGroup>& groups) {
  const Geometry& g = fs.geometry();
  std::uint64_t start = UINT64_MAX;
  std::uint64_t end = 0;
  for (const NewGroup& group : groups) {
    start = std::min(start, group.fields.inode_table);
    end = std::max(end, group.fields.inode_table + g.itable_blocks);
  }
  const std::uint64_t length = (end - start) * g.block_size;
  const Range run = fs.store().map(g.offset(start), length);
  return run.zero && run.length == length;
}

std::uint64_t write_group(Filesystem& fs, NewGroup& group, bool table_is_zero) {
  const Geometry& g = fs.geometry();
  Group& fields = group.fields;
  const std::uint64_t table_bytes = std::uint64_t{g.itable_blocks} * g.block_size;
  if (!fields.block_uninit()) {
    fs.store().write_unreferenced(g.offset(fields.block_bitmap), group.bitmap);
    if (g.metadata_csum()) fields.block_bitmap_csum = fs.checksums().block_bitmap(group.bitmap);
  }
  if (g.lazy_groups()) {
    // The inode table may hold anything; the guest clears it at leisure.
    if (table_is_zero) fields.flags |= group_itable_zeroed;
  } else {
    Buffer inodes(g.block_size);
    set_bits(inodes, g.inodes_per_group, 8ULL * g.block_size - g.inodes_per_group);
    fs.store().write_unreferenced(g.offset(fields.inode_bitmap), inodes);
    write_zeros_where_needed(fs.store(), g.offset(fields.inode_table), table_bytes);
  }
  fs.set_group(group.number, fields);
  return fields.free_clusters;
}

std::uint64_t add_groups(Filesystem& fs, std::uint32_t first_new) {
  const Geometry g = fs.geometry();
  std::uint64_t free_clusters = 0;
  for (std::uint32_t first = first_new; first < g.group_count;) {
    const std::uint32_t together =
        g.has_incompat(incompat::flex_bg) ? std::min(g.groups_per_flex, most_groups_together) : 1;
    const std::uint32_t end = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(g.group_count, round_down(first, together) + together));
    std::vector<NewGroup> groups = place_groups(fs, first, end);
    const bool zero = tables_are_zero(fs, groups);
    for (NewGroup& group : groups) free_clusters += write_group(fs, group, zero);
    first = end;
  }
  return free_clusters;
}

// One copy of the descriptor table that lies in one run, from block `first` of the table on.
void write_table_copy(Filesystem& fs, const Geometry& before, std::uint32_t group,
                      std::uint32_t first) {
  const Geometry& g = fs.geometry();
  const std::uint64_t start = g.gdt_start(group);
  // Reserved blocks of a copy hold nothing that anyone reads; those of the first table do, and so
  // do blocks behind the reserved ones, which something else had before it moved out of the way.
  const bool is_new = group >= before.group_count;
  const std::uint32_t all = g.old_desc_blocks();
  const std::uint32_t unread_from = is_new ? 0 : group == 0 ? all : before.desc_blocks;
  const std::uint32_t unread_to = is_new ? all : before.desc_blocks + before.reserved_gdt;
  for (std::uint32_t i = first; i < all;) {
    const bool referenced = i < unread_from || i >= unread_to;
    const std::uint32_t end = i < unread_from ? std::min(unread_from, all)
                              : i < unread_to ? std::min(unread_to, all)
                                              : all;
    const ConstByteSpan part = fs.descriptor_blocks(i, end - i);
    if (referenced) {
      fs.store().write(g.offset(start + i), part);
    } else {
      fs.store().write_unreferenced(g.offset(start + i), part);
    }
    i = end;
  }
}

// Superblock copies and every changed block of the descriptor table, wherever it has a copy.
void write_tables(Filesystem& fs, const Geometry& before, bool metadata_moved) {
  const Geometry& g = fs.geometry();
  const std::uint32_t first_changed =
      metadata_moved ? 0 : (before.group_count - 1) / g.desc_per_block;
  for (const std::uint32_t group : g.backup_groups()) {
    const bool is_new = group >= before.group_count;
    // A new copy gets a clean block around it, and the part of the table that did not change too.
    if (is_new) fs.store().write_unreferenced(g.offset(g.group_first(group)), Buffer(g.block_size));
    if (!g.meta_bg() || group / g.desc_per_block < g.first_meta_bg)
      write_table_copy(fs, before, group, is_new ? 0 : first_changed);
    fs.write_super(group);
  }
  write_table_copy(fs, before, 0, first_changed);
  for (std::uint32_t i = std::max(first_changed, g.old_desc_blocks()); i < g.desc_blocks; ++i)
    for (const std::uint64_t block : g.descriptor_copies(i)) {
      if (block >= before.blocks) {
        fs.store().write_unreferenced(g.offset(block), fs.descriptor_block(i));
      } else {
        fs.store().write(g.offset(block), fs.descriptor_block(i));
      }
    }
  fs.write_super(0);
}

std::uint64_t estimate(const GrowPlan& plan) {
  const Geometry& g = plan.after;
  const std::uint64_t new_groups = g.group_count - plan.before.group_count;
  const std::uint64_t copies = g.backup_groups().size() + 1;
  const std::uint64_t changed_desc =
      g.desc_blocks - (plan.before.group_count - 1) / g.desc_per_block;
  std::uint64_t blocks = copies * (1 + (g.meta_bg() ? 1 : changed_desc)) + g.reserved_gdt + 4;
  if (g.meta_bg()) blocks += 3 * changed_desc;
  const std::uint64_t leaders =
      g.lazy_groups() ? ceil_div(new_groups, std::max(1U, std::min(g.groups_per_flex, 16U))) + 2
                      : new_groups * (2 + std::uint64_t{g.itable_blocks});
  return (blocks + leaders) * g.block_size;
}

}  // namespace

std::uint64_t own_overhead(const Geometry& g, std::uint32_t group) {
  return g.base_metadata_blocks(group) + 2 + g.itable_blocks;
}

void set_block_count(Superblock& super, const Geometry& g) {
  super.blocks_count_lo = static_cast<std::uint32_t>(g.blocks & 0xFFFFFFFF);
  if (g.has_incompat(incompat::bit64))
    super.blocks_count_hi = static_cast<std::uint32_t>(g.blocks >> 32);
}

void scale_reserved(Superblock& super, const Filesystem& fs, const Geometry& after) {
  using boost::multiprecision::uint128_t;
  const uint128_t scaled = uint128_t(fs.reserved_blocks()) * after.blocks / fs.geometry().blocks;
  const auto blocks = scaled.convert_to<std::uint64_t>();
  super.r_blocks_count_lo = static_cast<std::uint32_t>(blocks & 0xFFFFFFFF);
  if (after.has_incompat(incompat::bit64))
    super.r_blocks_count_hi = static_cast<std::uint32_t>(blocks >> 32);
}

std::uint32_t GrowPlan::descriptor_overrun() const {
  if (after.meta_bg()) return 0;
  const std::uint32_t had = before.desc_blocks + before.reserved_gdt;
  return after.desc_blocks > had ? after.desc_blocks - had : 0;
}

std::uint64_t most_blocks(const Geometry& g) {
  std::uint64_t most = UINT32_MAX;  // the last number is left out: 32 bits must hold the count
  if (g.has_incompat(incompat::bit64)) most = 1ULL << 48;  // an extent's block numbers
  // Inode numbers have 32 bits, and every group has its share of them.
  const std::uint64_t groups = UINT32_MAX / g.inodes_per_group;
  most = std::min(most, g.first_data_block + checked_mul(groups, g.blocks_per_group));
  return round_down(most, g.cluster_ratio);
}

std::vector<BlockRange> table_way(const GrowPlan& plan) {
  std::vector<BlockRange> way;
  const std::uint32_t overrun = plan.descriptor_overrun();
  if (overrun == 0) return way;
  const Geometry& g = plan.before;
  std::vector<std::uint32_t> groups = g.backup_groups();
  groups.insert(groups.begin(), 0);
  for (const std::uint32_t group : groups) {
    const std::uint64_t start = g.gdt_start(group) + g.desc_blocks + g.reserved_gdt;
    if (start >= g.blocks) continue;
    way.push_back({start, std::min<std::uint64_t>(overrun, g.blocks - start)});
  }
  return way;
}

GrowPlan plan_grow(Filesystem& fs, std::uint64_t store_blocks) {
  check_changeable(fs.super());
  GrowPlan plan;
  plan.before = fs.geometry();
  const Geometry& g = plan.before;
  plan.after = g;
  const std::uint64_t blocks = round_down(store_blocks, g.cluster_ratio);
  if (blocks <= g.blocks) return plan;
  const std::uint64_t most = most_blocks(g);
  if (blocks > most)
    refuse_beyond(g, most,
                  g.has_incompat(incompat::bit64) || most < round_down(UINT32_MAX, g.cluster_ratio)
                      ? "there are no more inode numbers for further groups"
                      : "its block numbers have 32 bits (it was made without 64bit)");
  const auto with_backups = [&](Geometry after) {
    // A filesystem of one group had nowhere to keep copies; sparse_super2 names their groups.
    if (g.has_compat(compat::sparse_super2) && g.group_count == 1 && after.group_count > 1) {
      after.backup_bgs = {1, after.group_count > 2 ? after.group_count - 1 : 0};
    }
    return after;
  };
  plan.after = with_backups(g.resized(blocks));
  const std::uint32_t last = plan.after.group_count - 1;
  if (last >= g.group_count &&
      plan.after.group_blocks(last) < own_overhead(plan.after, last) + fewest_useful_blocks) {
    const std::uint64_t left = plan.after.group_blocks(last);
    plan.after = with_backups(g.resized(plan.after.group_first(last)));
    plan.notes.push_back(fmt::format(
        "the last {} of the room are too few for a block group with its own metadata and stay "
        "unused",
        human(Bytes(left * g.block_size))));
  }
  if (plan.after.blocks <= g.blocks) {
    plan.after = g;
    return plan;
  }
  const std::uint64_t table_end = g.gdt_start(0) - g.group_first(0) + plan.after.old_desc_blocks() +
                                  plan.after.reserved_gdt + 2 + g.itable_blocks + 8;
  if (table_end > g.blocks_per_group)
    refuse("the descriptor table for this size would not fit into a block group", "ext filesystem",
           "ask for less; this filesystem was made with small groups");
  if (plan.descriptor_overrun() != 0 && g.cluster_ratio != 1)
    unsupported("with bigalloc the descriptor table cannot become longer than was reserved for it",
                "ext filesystem", "ask for less");
  plan.bytes_to_write = estimate(plan);
  return plan;
}

void grow(Filesystem& fs, const GrowPlan& plan) {
  if (!plan.changes()) return;
  const Geometry& before = plan.before;
  const Geometry& after = plan.after;
  Superblock super = fs.super();
  const std::uint64_t free_before = fs.free_clusters();
  Buffer last_bitmap = fs.block_bitmap(before.group_count - 1);
  set_block_count(super, after);
  scale_reserved(super, fs, after);
  super.inodes_count = checked_cast<std::uint32_t>(after.inodes());
  super.reserved_gdt_blocks = checked_cast<std::uint16_t>(after.reserved_gdt);
  super.backup_bgs[0] = after.backup_bgs[0];
  super.backup_bgs[1] = after.backup_bgs[1];
  super.free_inodes_count = checked_cast<std::uint32_t>(
      super.free_inodes_count.value() +
      std::uint64_t{after.group_count - before.group_count} * after.inodes_per_group);
  fs.set_super(super, after);

  std::uint64_t freed = extend_last_group(fs, before, std::move(last_bitmap));
  freed += add_groups(fs, before.group_count);
  fs.set_free_clusters(fs.edit_super(), free_before + freed);
  if (super.overhead_clusters.value() != 0) {
    std::uint64_t more = ceil_div(after.blocks, after.cluster_ratio) -
                         ceil_div(before.blocks, before.cluster_ratio) - freed;
    for (const BlockRange& run : table_way(plan)) more += run.count;
    fs.edit_super().overhead_clusters =
        checked_cast<std::uint32_t>(super.overhead_clusters.value() + more);
  }
  rebuild_resize_inode(fs);
  write_tables(fs, before, plan.descriptor_overrun() != 0);
}

}  // namespace jh::ext
