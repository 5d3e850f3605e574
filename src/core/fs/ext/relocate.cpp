#include "core/fs/ext/relocate.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/base/checksum.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

[[noreturn]] void no_room(std::uint64_t count) {
  refuse(fmt::format("{} blocks in a row are not free to move what is in the way", count),
         "ext filesystem", "ask for less, or free some space inside the guest first");
}

bool overlaps(const std::vector<BlockRun>& runs, std::uint64_t start, std::uint64_t count) {
  return std::any_of(runs.begin(), runs.end(), [&](const BlockRun& run) {
    return run.start < start + count && start < run.end();
  });
}

class Mover {
 public:
  Mover(Filesystem& fs, std::vector<BlockRun> way)
      : fs_(fs), g_(fs.geometry()), way_(std::move(way)), allocation_(fs) {}

  /// Nothing may stay at or behind `end`.
  Mover(Filesystem& fs, const Geometry& after, Progress& progress)
      : fs_(fs),
        g_(fs.geometry()),
        way_{{after.blocks, fs.geometry().blocks - after.blocks}},
        allocation_(fs),
        group_end_(after.group_count),
        shrinks_(true),
        progress_(&progress) {
    allocation_.set_limit(after.blocks);
    // Groups that go leave behind what they kept elsewhere.
    for (std::uint32_t number = after.group_count; number < g_.group_count; ++number) {
      const Group group = fs.group(number);
      allocation_.release(group.block_bitmap, 1);
      allocation_.release(group.inode_bitmap, 1);
      allocation_.release(group.inode_table, g_.itable_blocks);
    }
  }

  MoveReport run() {
    if (!shrinks_)
      for (const BlockRun& run : way_) allocation_.take(run.start, run.count);
    for (std::uint32_t group = 0; group < group_end_; ++group) plan_metadata(group);
    // Files first: metadata may be about to take their blocks.
    for (std::uint32_t group = 0; group < group_end_; ++group) scan_inodes(group);
    move_mmp();
    release_old_metadata();
    allocation_.finish();
    move_metadata();
    return report_;
  }

 private:
  bool in_way(std::uint64_t start, std::uint64_t count = 1) const {
    return overlaps(way_, start, count);
  }

  std::uint64_t new_place(std::uint64_t count, std::uint64_t near,
                          const std::vector<BlockRun>& forbidden) {
    const auto found = allocation_.allocate(count, near, forbidden);
    if (!found) no_room(count);
    return *found;
  }

  // What lies in the way stays marked there: the table takes its place.
  void release_outside_way(std::uint64_t start, std::uint64_t count) {
    for (std::uint64_t block = start; block < start + count; ++block)
      if (!in_way(block)) allocation_.release(block, 1);
  }

  void copy(std::uint64_t from, std::uint64_t to, std::uint64_t count) {
    constexpr std::uint64_t piece = 256;
    for (std::uint64_t done = 0; done < count; done += piece) {
      const std::uint64_t step = std::min(piece, count - done);
      copy_unreferenced(fs_.store(), g_.offset(from + done), fs_.store(), g_.offset(to + done),
                        step * g_.block_size);
      if (progress_ != nullptr) progress_->advance((moved_ += step) * g_.block_size);
    }
  }

  // One bitmap or inode table on its way to a new place.
  struct Metadata {
    std::uint32_t group = 0;
    std::uint64_t Group::*field = nullptr;
    std::uint64_t from = 0;
    std::uint64_t to = 0;
    std::uint64_t count = 0;
  };

  void plan_metadata(std::uint32_t number) {
    const Group group = fs_.group(number);
    for (std::uint64_t Group::*field : {&Group::block_bitmap, &Group::inode_bitmap})
      if (in_way(group.*field)) metadata_.push_back({number, field, group.*field, 0, 1});
    if (in_way(group.inode_table, g_.itable_blocks))
      metadata_.push_back({number, &Group::inode_table, group.inode_table, 0, g_.itable_blocks});
    for (Metadata& item : metadata_)
      if (item.group == number && item.to == 0) item.to = metadata_place(number, item);
  }

  std::uint64_t metadata_place(std::uint32_t number, const Metadata& item) {
    report_.metadata_blocks += item.count;
    if (g_.has_incompat(incompat::flex_bg))
      return new_place(item.count, g_.group_first(number), {});
    // Without flex_bg metadata must stay in its own group.
    const std::uint64_t first = g_.group_first(number);
    const std::uint64_t end = group_end(number);
    const std::vector<BlockRun> elsewhere{{0, first}, {end, g_.blocks - end}};
    if (const auto found = allocation_.allocate(item.count, first, elsewhere)) return *found;
    return evict(number, item);
  }

  std::uint64_t group_end(std::uint32_t number) const {
    const std::uint64_t end = g_.group_first(number) + g_.group_blocks(number);
    return shrinks_ ? std::min(end, way_.front().start) : end;
  }

  // Files in this group make room: they may live anywhere.
  std::uint64_t evict(std::uint32_t number, const Metadata& item) {
    const Group group = fs_.group(number);
    const std::uint64_t first = g_.group_first(number);
    std::vector<BlockRun> fixed = way_;
    for (const BlockRun& run : g_.base_metadata(number)) fixed.push_back(run);
    for (std::uint64_t Group::*field : {&Group::block_bitmap, &Group::inode_bitmap})
      fixed.push_back({group.*field, 1});
    // An inode table may take blocks of its own old place.
    if (item.field != &Group::inode_table) fixed.push_back({group.inode_table, g_.itable_blocks});
    std::uint64_t run = 0;
    for (std::uint64_t block = first; block < group_end(number); ++block) {
      run = overlaps(fixed, block, 1) ? 0 : run + 1;
      if (run < item.count) continue;
      const BlockRun place{block + 1 - item.count, item.count};
      way_.push_back(place);
      allocation_.take(place.start, place.count);
      return place.start;
    }
    no_room(item.count);
  }

  void release_old_metadata() {
    for (const Metadata& item : metadata_)
      for (std::uint64_t block = item.from; block < item.from + item.count; ++block)
        if (!in_way(block) && (block < item.to || block >= item.to + item.count))
          allocation_.release(block, 1);
  }

  void move_metadata() {
    for (const Metadata& item : metadata_) {
      // Read as a whole before it is written: old and new place may overlap.
      const Buffer content =
          read_buffer(fs_.store(), g_.offset(item.from), item.count * g_.block_size);
      fs_.store().write(g_.offset(item.to), content);
      Group group = fs_.group(item.group);
      group.*item.field = item.to;
      fs_.set_group(item.group, group);
    }
    for (const Metadata& item : metadata_) write_first_descriptor(fs_, item.group);
  }

  void move_mmp() {
    if (!g_.has_incompat(incompat::mmp)) return;
    const std::uint64_t from = fs_.super().mmp_block.value();
    if (!in_way(from)) return;
    const std::uint64_t to = new_place(1, from, {});
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
      if (inode.ino == 1 && touches_way(inode))
        unsupported("bad blocks are on record in the way", "ext filesystem", "ask for less");
      ByteSpan root = ByteSpan(inode.raw).subspan(offsetof(Inode, block), sizeof(Inode::block));
      bool root_changed = false;
      if (shrinks_ && inode.has_flag(flag_extents)) {
        changed = move_runs(inode) || changed;
      } else if (inode.has_flag(flag_extents)) {
        root_changed = extent_node(inode, root, 0);
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
    visitor.data = [&](const MappedRun& run) {
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
      const std::uint64_t to = known->second = new_place(1, from, {});
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
    const std::uint64_t to = new_place(1, from, {});
    copy(from, to, 1);
    inode.fields.block[13] = checked_cast<std::uint32_t>(to);
    inode.store_fields();
    ++report_.metadata_blocks;
    return true;
  }

  // What lies in the way goes to as many places as it takes, and the tree is built anew.
  bool move_runs(InodeRecord& inode) {
    bool moves = false;
    std::vector<MappedRun> runs;
    const auto add = [&](const MappedRun& run) {
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
    visitor.data = [&](const MappedRun& run) {
      moves = moves || in_way(run.physical, run.count);
      return true;
    };
    visit_blocks(fs_, inode, visitor);
    if (!moves) return false;
    visitor.data = [&](const MappedRun& run) {
      for (std::uint64_t done = 0; done < run.count;) {
        MappedRun part{run.logical + done, run.physical + done, 0, run.unwritten};
        part.count = stretch(part.physical, run.count - done);
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
    const Inode& f = inode.fields;
    const bool has_project = g_.has_ro_compat(ro_compat::project) &&
                             inode.raw.size() >= sizeof(Inode) &&
                             old_inode_size + f.extra_isize.value() >= sizeof(Inode);
    report_.usage.push_back(
        {f.uid_lo.value() | std::uint32_t{f.uid_hi.value()} << 16,
         f.gid_lo.value() | std::uint32_t{f.gid_hi.value()} << 16,
         has_project ? f.projid.value() : 0,
         blocks * static_cast<std::int64_t>(std::uint64_t{g_.cluster_ratio} * g_.block_size)});
  }

  // How far from this block all is in the way, or nothing is.
  std::uint64_t stretch(std::uint64_t block, std::uint64_t most) const {
    std::uint64_t length = most;
    for (const BlockRun& run : way_)
      for (const std::uint64_t edge : {run.start, run.end()})
        if (edge > block) length = std::min(length, edge - block);
    return length;
  }

  template <class Add>
  void move_part(MappedRun part, Add add) {
    const std::uint64_t ratio = g_.cluster_ratio;
    while (part.count != 0) {
      const std::uint64_t inside = part.physical % ratio;
      BlockRun to;
      if (inside != 0 && part.physical / ratio == last_cluster_from_) {
        // The rest of a cluster whose beginning has moved already.
        to = {last_cluster_to_ * ratio + inside, ratio - inside};
      } else {
        const auto found = allocation_.allocate_piece(inside + part.count);
        if (!found) no_room(1);
        to = {found->start + inside, found->count - inside};
      }
      MappedRun moved = part;
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

  // Extents move as a whole, so that no tree ever needs more entries than it has.
  bool extent_node(const InodeRecord& inode, ByteSpan raw, std::uint32_t level) {
    const auto header = parse_as<ExtentHeader>(raw, 0);
    const std::size_t room = (raw.size() - sizeof(ExtentHeader)) / sizeof(Extent);
    if (header.magic.value() != extent_magic || header.entries.value() > room ||
        level > max_extent_depth)
      damaged(fmt::format("inode {}: its extent tree is damaged", inode.ino), "ext filesystem");
    bool changed = false;
    for (std::uint16_t i = 0; i < header.entries.value(); ++i) {
      const std::size_t at = sizeof(ExtentHeader) + i * sizeof(Extent);
      if (header.depth.value() == 0) {
        changed = move_extent(raw, at) || changed;
      } else {
        changed = move_index(inode, raw, at, level) || changed;
      }
    }
    return changed;
  }

  bool move_extent(ByteSpan raw, std::size_t at) {
    auto extent = parse_as<Extent>(raw, at);
    const bool unwritten = extent.len.value() > max_written_extent;
    const std::uint64_t count = extent.len.value() - (unwritten ? max_written_extent : 0);
    const std::uint64_t from = extent.start_lo.value() | std::uint64_t{extent.start_hi.value()}
                                                             << 32;
    if (!in_way(from, count)) return false;
    fs_.check_run(from, count);
    const std::uint64_t to = new_place(count, from, {});
    if (!unwritten) copy(from, to, count);
    release_outside_way(from, count);
    extent.start_lo = static_cast<std::uint32_t>(to & 0xFFFFFFFF);
    extent.start_hi = static_cast<std::uint16_t>(to >> 32);
    put_at(raw, at, extent);
    report_.file_blocks += count;
    return true;
  }

  bool move_index(const InodeRecord& inode, ByteSpan raw, std::size_t at, std::uint32_t level) {
    auto entry = parse_as<ExtentIndex>(raw, at);
    const std::uint64_t child = entry.leaf_lo.value() | std::uint64_t{entry.leaf_hi.value()} << 32;
    Buffer block = fs_.read_block(child);
    const bool changed = extent_node(inode, block, level + 1);
    if (changed) set_extent_sum(fs_, inode, block);
    if (!in_way(child)) {
      if (changed) fs_.store().write(g_.offset(child), block);
      return false;
    }
    const std::uint64_t to = new_place(1, child, {});
    fs_.store().write_unreferenced(g_.offset(to), block);
    entry.leaf_lo = static_cast<std::uint32_t>(to & 0xFFFFFFFF);
    entry.leaf_hi = static_cast<std::uint16_t>(to >> 32);
    put_at(raw, at, entry);
    ++report_.file_blocks;
    return true;
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
    const std::uint64_t to = new_place(1, block, {});
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
  std::vector<BlockRun> way_;
  Allocation allocation_;
  MoveReport report_;
  std::uint32_t group_end_ = g_.group_count;
  bool shrinks_ = false;
  Progress* progress_ = nullptr;
  std::uint64_t moved_ = 0;  // blocks
  std::uint64_t last_cluster_from_ = UINT64_MAX;
  std::uint64_t last_cluster_to_ = UINT64_MAX;
  std::map<std::uint64_t, std::uint64_t> attribute_blocks_;
  std::vector<Metadata> metadata_;
};

}  // namespace

std::vector<BlockRun> table_way(const GrowPlan& plan) {
  std::vector<BlockRun> way;
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

MoveReport clear_table_way(Filesystem& fs, const GrowPlan& plan) {
  const auto way = table_way(plan);
  if (way.empty()) return {};
  if (plan.before.cluster_ratio != 1)
    unsupported("with bigalloc the descriptor table cannot become longer than was reserved for it",
                "ext filesystem", "ask for less");
  return Mover(fs, way).run();
}

MoveReport vacate_end(Filesystem& fs, const Geometry& after, Progress& progress) {
  return Mover(fs, after, progress).run();
}

}  // namespace jh::ext
