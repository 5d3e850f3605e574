#include "core/fs/ext/relocate.h"

#include <algorithm>
#include <map>

#include "core/fs/ext/block_map.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/relocate_parts.h"

namespace jh::ext {
namespace {

class Mover {
 public:
  /// Nothing may stay in the way.
  Mover(Filesystem& fs, const std::vector<BlockRange>& way, Progress& progress)
      : fs_(fs), g_(fs.geometry()), allocation_(fs), progress_(progress) {
    allocation_.set_limit(g_.blocks);
    for (const BlockRange& run : way) {
      add_range(to_vacate_.blocks, run.start, run.end());
      allocation_.keep(run);  // what lies there stays marked: the table takes its place
    }
  }

  /// Nothing may stay at or behind the end of `after`.
  Mover(Filesystem& fs, const Geometry& after, Progress& progress)
      : fs_(fs), g_(fs.geometry()), allocation_(fs), progress_(progress) {
    to_vacate_.group_end = after.group_count;
    to_vacate_.block_end = after.blocks;
    add_range(to_vacate_.blocks, after.blocks, g_.blocks);
    allocation_.set_limit(after.blocks);
    // Groups that go leave behind what they kept elsewhere.
    const Ranges needed = clusters_that_stay(after.group_count);
    const auto release = [&](std::uint64_t start, std::uint64_t count) {
      for (std::uint64_t block = start; block < start + count; ++block)
        if (!overlaps(needed, block, block + 1)) allocation_.release(block, 1);
    };
    for (std::uint32_t number = after.group_count; number < g_.group_count; ++number) {
      const Group group = fs.group(number);
      release(group.block_bitmap, 1);
      release(group.inode_bitmap, 1);
      release(group.inode_table, g_.itable_blocks);
    }
  }

  MoveReport run() {
    MetadataMover metadata(fs_, allocation_, to_vacate_);
    metadata.plan();
    // Files first: metadata may be about to take their blocks.
    const std::uint32_t groups = std::min(to_vacate_.group_end, g_.group_count);
    for (std::uint32_t group = 0; group < groups; ++group) scan_inodes(group);
    move_mmp();
    metadata.release_old();
    allocation_.finish();
    metadata.move();
    report_.metadata_blocks += metadata.blocks();
    return report_;
  }

 private:
  // Clusters in which metadata of the first `groups` groups lies: what goes may share them.
  Ranges clusters_that_stay(std::uint32_t groups) {
    Ranges needed;
    if (g_.cluster_ratio == 1) return needed;
    const auto add = [&](std::uint64_t start, std::uint64_t count) {
      if (count == 0) return;
      const std::uint64_t base = g_.first_data_block;
      add_range(needed, base + round_down(start - base, g_.cluster_ratio),
                base + round_up(start + count - base, g_.cluster_ratio));
    };
    for (std::uint32_t number = 0; number < groups; ++number) {
      const Group group = fs_.group(number);
      add(group.block_bitmap, 1);
      add(group.inode_bitmap, 1);
      add(group.inode_table, g_.itable_blocks);
      for (const BlockRange& run : g_.base_metadata(number)) add(run.start, run.count);
    }
    return needed;
  }

  bool in_way(std::uint64_t start, std::uint64_t count = 1) const {
    return to_vacate_.contains(start, count);
  }

  std::uint64_t new_place() {
    const auto found = allocation_.allocate(1, 0, {});
    if (!found) no_room(1);
    return *found;
  }

  void copy(std::uint64_t from, std::uint64_t to, std::uint64_t count) {
    copy_in_pieces(fs_.store(), g_.offset(from), fs_.store(), g_.offset(to), count * g_.block_size,
                   [&](std::uint64_t done) { progress_.advance(moved_ * g_.block_size + done); });
    moved_ += count;
  }

  void move_mmp() {
    if (!g_.has_incompat(incompat::mmp)) return;
    const std::uint64_t from = fs_.super().mmp_block.value();
    if (!in_way(from)) return;
    const std::uint64_t to = new_place();
    copy(from, to, 1);
    fs_.edit_super().mmp_block = to;
    ++report_.metadata_blocks;
  }

  void scan_inodes(std::uint32_t number) {
    for_each_used_inode(fs_, number, [&](std::uint32_t ino) {
      InodeRecord inode = fs_.read_inode(ino);
      if (inode.fields.links_count.value() == 0 && ino >= g_.first_ino) return;
      if (!all_zero(inode.raw)) move_inode_blocks(inode);
    });
  }

  void move_inode_blocks(InodeRecord& inode) {
    bool changed = move_attribute_block(inode);
    if (inode.ino == resize_ino && g_.has_compat(compat::resize_inode)) {
      changed = move_resize_root(inode) || changed;
    } else if (has_blocks(inode)) {
      if (inode.ino == bad_blocks_ino && touches_way(inode))
        unsupported("bad blocks are on record in the way", "ext filesystem", "ask for less");
      ByteSpan root = ByteSpan(inode.raw).subspan(offsetof(Inode, block), sizeof(Inode::block));
      bool root_changed = false;
      if (inode.has_flag(flag_extents)) {
        changed = move_runs(inode) || changed;
      } else {
        for (std::size_t i = 0; i < 15; ++i)
          root_changed = indirect_entry(root.subspan(i * 4, 4),
                                        i < 12 ? 0 : static_cast<std::uint32_t>(i - 11)) ||
                         root_changed;
      }
      if (root_changed)
        std::memcpy(&inode.fields, inode.raw.data(), std::min(inode.raw.size(), sizeof(Inode)));
      changed = changed || root_changed;
    }
    if (!changed) return;
    fs_.write_inode(inode);
    if (inode.ino == fs_.super().journal_inum.value()) keep_journal_copy(inode);
    if (g_.has_compat(compat::orphan_file) && inode.ino == fs_.super().orphan_file_inum.value())
      sum_orphan_file(fs_, inode);
  }

  bool touches_way(const InodeRecord& inode) {
    bool touched = false;
    BlockVisitor visitor;
    visitor.data = [&](const MappedExtent& run) {
      touched = touched || in_way(run.physical, run.count);
      return true;
    };
    visit_blocks(fs_, inode, visitor);
    return touched;
  }

  // The superblock keeps a copy of the journal's block list for the checker.
  void keep_journal_copy(const InodeRecord& inode) {
    if (fs_.super().jnl_backup_type != 1) return;
    for (std::size_t i = 0; i < 15; ++i) fs_.edit_super().jnl_blocks[i] = inode.fields.block[i];
  }

  bool move_attribute_block(InodeRecord& inode) {
    const std::uint64_t from = inode.attribute_block();
    if (from == 0 || !in_way(from)) return false;
    auto [known, fresh] = attribute_blocks_.try_emplace(from, 0);
    if (fresh) {
      const std::uint64_t to = known->second = new_place();
      Buffer raw = fs_.read_block(from);
      if (g_.metadata_csum()) {
        auto header = parse_as<XattrHeader>(raw, 0);
        header.checksum = fs_.checksums().xattr_block(to, raw);
        put_at(raw, 0, header);
      }
      fs_.store().write_unreferenced(g_.offset(to), raw);
      ++report_.file_blocks;
    }
    inode.fields.file_acl_lo = static_cast<std::uint32_t>(known->second & 0xFFFFFFFF);
    inode.fields.file_acl_hi = static_cast<std::uint16_t>(known->second >> 32);
    inode.store_fields();
    return true;
  }

  bool move_resize_root(InodeRecord& inode) {
    const std::uint32_t from = inode.fields.block[13].value();
    if (!in_way(from)) return false;
    const std::uint64_t to = new_place();
    copy(from, to, 1);
    inode.fields.block[13] = checked_cast<std::uint32_t>(to);
    inode.store_fields();
    ++report_.metadata_blocks;
    return true;
  }

  // What lies in the way goes to as many places as it takes, and the tree is built anew.
  bool move_runs(InodeRecord& inode) {
    bool moves = false;
    std::vector<MappedExtent> runs;
    const auto add = [&](const MappedExtent& run) {
      const bool joins = !runs.empty() && runs.back().unwritten == run.unwritten &&
                         runs.back().logical + runs.back().count == run.logical &&
                         runs.back().physical + runs.back().count == run.physical;
      if (joins)
        runs.back().count += run.count;
      else
        runs.push_back(run);
    };
    BlockVisitor visitor;
    visitor.tree = [&](std::uint64_t block) {
      moves = moves || in_way(block);
      return true;
    };
    visitor.data = [&](const MappedExtent& run) {
      moves = moves || in_way(run.physical, run.count);
      return true;
    };
    visit_blocks(fs_, inode, visitor);
    if (!moves) return false;
    visitor.data = [&](const MappedExtent& run) {
      for (std::uint64_t done = 0; done < run.count;) {
        MappedExtent part{run.logical + done, run.physical + done, 0, run.unwritten};
        part.count = to_vacate_.stretch(part.physical, run.count - done);
        done += part.count;
        if (in_way(part.physical))
          move_part(part, add);
        else
          add(part);
      }
      return true;
    };
    visit_blocks(fs_, inode, visitor);
    note_usage(inode, replace_runs(fs_, allocation_, inode, runs));
    return true;
  }

  // Quota counts what users' files take up, their lists included.
  void note_usage(const InodeRecord& inode, std::int64_t blocks) {
    const bool counts = inode.ino == root_ino || inode.ino >= g_.first_ino;
    if (blocks == 0 || !counts || !g_.has_ro_compat(ro_compat::quota)) return;
    UsageChange change = owner_of(g_, inode);
    change.bytes =
        blocks * static_cast<std::int64_t>(std::uint64_t{g_.cluster_ratio} * g_.block_size);
    report_.usage.push_back(change);
  }

  template <class Add>
  void move_part(MappedExtent part, Add add) {
    const std::uint64_t ratio = g_.cluster_ratio;
    while (part.count != 0) {
      const std::uint64_t inside = part.physical % ratio;
      BlockRange to;
      if (inside != 0 && part.physical / ratio == last_cluster_from_) {
        // The rest of a cluster whose beginning has moved already.
        to = {last_cluster_to_ * ratio + inside, ratio - inside};
      } else {
        const auto found = allocation_.allocate_piece(inside + part.count);
        if (!found) no_room(1);
        to = {found->start + inside, found->count - inside};
      }
      MappedExtent moved = part;
      moved.physical = to.start;
      moved.count = std::min(part.count, to.count);
      if (!moved.unwritten) copy(part.physical, moved.physical, moved.count);
      report_.file_blocks += moved.count;
      last_cluster_from_ = (part.physical + moved.count - 1) / ratio;
      last_cluster_to_ = (moved.physical + moved.count - 1) / ratio;
      add(moved);
      part.logical += moved.count;
      part.physical += moved.count;
      part.count -= moved.count;
    }
  }

  bool indirect_entry(ByteSpan slot, std::uint32_t level) {
    const std::uint32_t block = parse_as<Le32>(slot, 0).value();
    if (block == 0) return false;
    Buffer list;
    bool changed = false;
    if (level != 0) {
      list = fs_.read_block(block);
      for (std::size_t at = 0; at < list.size(); at += 4)
        changed = indirect_entry(ByteSpan(list).subspan(at, 4), level - 1) || changed;
    }
    if (!in_way(block)) {
      if (changed) fs_.store().write(g_.offset(block), list);
      return false;
    }
    const std::uint64_t to = new_place();
    if (level != 0) {
      fs_.store().write_unreferenced(g_.offset(to), list);
    } else {
      copy(block, to, 1);
    }
    Le32 value;
    value = checked_cast<std::uint32_t>(to);
    put_at(slot, 0, value);
    ++report_.file_blocks;
    return true;
  }

  Filesystem& fs_;
  const Geometry g_;
  ToVacate to_vacate_;
  Allocation allocation_;
  MoveReport report_;
  Progress& progress_;
  std::uint64_t moved_ = 0;  // blocks
  std::uint64_t last_cluster_from_ = UINT64_MAX;
  std::uint64_t last_cluster_to_ = UINT64_MAX;
  std::map<std::uint64_t, std::uint64_t> attribute_blocks_;
};

}  // namespace

void clear_table_way(Store& store, std::uint64_t blocks, Progress& progress) {
  Filesystem fs(store);
  GrowPlan plan = plan_grow(fs, blocks);
  if (plan.descriptor_overrun() == 0) return;
  // First as far as the table reaches already: a full filesystem has no room inside for what moves.
  const Geometry& g = fs.geometry();
  const std::uint64_t reach = g.first_data_block + (std::uint64_t{g.desc_blocks} + g.reserved_gdt) *
                                                       g.desc_per_block * g.blocks_per_group;
  grow(fs, plan_grow(fs, reach));
  Filesystem grown(store);
  plan = plan_grow(grown, blocks);
  for (const UsageChange& change : Mover(grown, table_way(plan), progress).run().usage)
    change_usage(grown, change);
}

MoveReport vacate_end(Filesystem& fs, const Geometry& after, Progress& progress) {
  return Mover(fs, after, progress).run();
}

}  // namespace jh::ext
