#include "core/fs/xfs/group_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/xfs/owners.h"
#include "core/fs/xfs/rebuild.h"
#include "core/fs/xfs/tree_write.h"

namespace jh::xfs {
namespace {

std::vector<FreeExtent> joined(std::vector<FreeExtent> all) {
  std::sort(all.begin(), all.end(), [](const FreeExtent& a, const FreeExtent& b) {
    return a.start.value() < b.start.value();
  });
  std::vector<FreeExtent> out;
  for (const FreeExtent& each : all) {
    if (!out.empty() && out.back().start.value() + out.back().count.value() == each.start.value())
      out.back().count = out.back().count.value() + each.count.value();
    else
      out.push_back(each);
  }
  return out;
}

template <class Record>
Buffer bytes_of_all(const std::vector<Record>& records) {
  Buffer out;
  out.reserve(records.size() * sizeof(Record));
  for (const Record& record : records) {
    const ConstByteSpan bytes = jh::bytes_of(record);
    out.insert(out.end(), bytes.begin(), bytes.end());
  }
  return out;
}

class GroupRewrite {
 public:
  GroupRewrite(Store& place, const Geometry& geometry, const Cut& cut, std::uint32_t number,
               const Relocated& relocated)
      : place_(place),
        geometry_(geometry),
        cut_(cut),
        relocated_(relocated),
        group_(place, geometry, number),
        end_(cut.blocks_of(geometry, number)),
        kept_(number + 1 == cut.groups ? cut.kept : end_) {
    const auto found = relocated.groups.find(number);
    if (found == relocated.groups.end()) return;
    change_ = &found->second;
    left_ = change_->freed;
    for (const auto& [start, end] : change_->emptied) add_range(left_, start, end);
  }

  void run(const Room& room, const std::vector<SharedExtent>& shared) {
    for (const Tree tree : all_trees)
      if (group_.has(tree)) keep_blocks(tree);
    for (const std::uint32_t block : group_.free_list())
      if (block < kept_) list_.push_back(block);
    free_ = room.left(group_.number());
    if (change_ != nullptr)
      for (const auto& [start, end] : change_->freed)
        free_.push_back({Be32(static_cast<std::uint32_t>(start)),
                         Be32(static_cast<std::uint32_t>(end - start))});
    if (kept_ < end_)
      free_.push_back({Be32(static_cast<std::uint32_t>(kept_)),
                       Be32(static_cast<std::uint32_t>(end_ - kept_))});
    free_ = joined(std::move(free_));
    collect_inodes();
    collect_shared(shared);
    collect_owners();
    settle_blocks();
    write_trees();
    write_headers();
  }

 private:
  // --- what the trees say

  void keep_blocks(Tree tree) {
    std::vector<std::uint32_t>& blocks = blocks_[tree];
    group_.walk(
        tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
        [&](std::uint32_t block, const TreeHeader&) {
          if (block < kept_) blocks.push_back(block);
        });
  }

  void collect_inodes() {
    for (const InodeChunk& chunk : group_.chunks())
      if (kept_ == group_.blocks() || !is_behind(geometry_, chunk, kept_)) chunks_.push_back(chunk);
    if (change_ != nullptr)
      chunks_.insert(chunks_.end(), change_->chunks.begin(), change_->chunks.end());
    std::sort(chunks_.begin(), chunks_.end(), [](const InodeChunk& a, const InodeChunk& b) {
      return a.first.value() < b.first.value();
    });
  }

  void collect_shared(const std::vector<SharedExtent>& added) {
    if (!group_.has(Tree::shared)) return;
    constexpr std::uint32_t staging = 1U << 31;
    group_.walk(Tree::shared, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
      for (std::size_t i = 0; i < records; ++i) {
        auto extent = parse_as<SharedExtent>(data, i * sizeof(SharedExtent));
        const std::uint32_t flag = extent.start.value() & staging;
        const std::uint64_t base = geometry_.group_blocks() * group_.number();
        cut_.for_each_part({base + (extent.start.value() & ~staging), extent.count.value()},
                           [&](const Blocks& part, bool leaves) {
                             if (leaves) return;
                             extent.start = static_cast<std::uint32_t>(part.line - base) | flag;
                             extent.count = static_cast<std::uint32_t>(part.count);
                             shared_.push_back(extent);
                           });
      }
    });
    shared_.insert(shared_.end(), added.begin(), added.end());
    std::sort(shared_.begin(), shared_.end(), [](const SharedExtent& a, const SharedExtent& b) {
      return a.start.value() < b.start.value();
    });
    std::vector<SharedExtent> out;
    for (const SharedExtent& each : shared_) {
      if (!out.empty() && out.back().references.value() == each.references.value() &&
          out.back().start.value() + out.back().count.value() == each.start.value())
        out.back().count = out.back().count.value() + each.count.value();
      else
        out.push_back(each);
    }
    shared_ = std::move(out);
  }

  // Without the trees' own blocks.
  void collect_owners() {
    if (!group_.has(Tree::reverse_map)) return;
    group_.walk(Tree::reverse_map, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
      for (std::size_t i = 0; i < records; ++i)
        keep_owner(parse_as<ReverseMapping>(data, i * sizeof(ReverseMapping)));
    });
    if (change_ != nullptr)
      owners_.insert(owners_.end(), change_->owners.begin(), change_->owners.end());
  }

  void keep_owner(ReverseMapping mapping) {
    const std::uint64_t who = mapping.owner.value();
    if (who == owner::group || who == owner::inode_trees || who == owner::shared_tree) return;
    if (mapping.start.value() >= kept_) return;
    mapping.count = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(mapping.count.value(), kept_ - mapping.start.value()));
    if (static_cast<std::int64_t>(who) > 0) mapping.owner = relocated_.renumbered.of(who);
    add_without(mapping, left_, owners_);
  }

  std::vector<ReverseMapping> all_owners() const {
    std::vector<ReverseMapping> all = owners_;
    const auto own = [&](const std::vector<std::uint32_t>& blocks, std::uint64_t who) {
      for (const std::uint32_t block : blocks)
        all.push_back({Be32(block), Be32(1), Be64(who), Be64(0)});
    };
    for (const auto& [tree, blocks] : blocks_)
      own(blocks, tree == Tree::inodes || tree == Tree::free_inodes ? owner::inode_trees
                  : tree == Tree::shared                            ? owner::shared_tree
                                                                    : owner::group);
    own(list_, owner::group);
    sort_and_join(all);
    return all;
  }

  std::vector<InodeChunk> chunks_with_free() const {
    std::vector<InodeChunk> out;
    for (const InodeChunk& chunk : chunks_)
      if (chunk.free_count != 0) out.push_back(chunk);
    return out;
  }

  // --- which blocks they get

  std::size_t records_of(Tree tree) const {
    switch (tree) {
      case Tree::by_block:
      case Tree::by_size:
        return free_.size();
      case Tree::inodes:
        return chunks_.size();
      case Tree::free_inodes:
        return chunks_with_free().size();
      case Tree::shared:
        return shared_.size();
      case Tree::reverse_map:
        break;
    }
    return all_owners().size();
  }

  std::uint32_t take_free() {
    if (free_.empty())
      refuse(fmt::format("group {} has no free block left for its trees", group_.number()), "XFS",
             "choose a larger size");
    // From the shortest, so that the long ones stay.
    const auto shortest = std::min_element(
        free_.begin(), free_.end(),
        [](const FreeExtent& a, const FreeExtent& b) { return a.count.value() < b.count.value(); });
    const std::uint32_t block = shortest->start.value();
    if (shortest->count.value() == 1) {
      free_.erase(shortest);
    } else {
      shortest->start = block + 1;
      shortest->count = shortest->count.value() - 1;
    }
    return block;
  }

  // Each tree gets as many blocks as it needs, and the free list what its trees ask for: full as
  // they are, every level may be split by what the guest writes next, and once more while the list
  // is filled again ("Allocation Groups", AG free list). What a tree has too many goes to the list,
  // which is where another takes from. Giving blocks back to the free space, or taking them,
  // changes trees again, so it goes on until nothing does.
  void settle_blocks() {
    const std::size_t most_listed = (geometry_.sector_size() - sizeof(FreeListHeader)) / 4 - 1;
    for (int round = 0; round < 64; ++round) {
      bool changed = false;
      std::size_t least = 0;
      for (auto& [tree, blocks] : blocks_) {
        const std::size_t records = records_of(tree);
        const std::size_t needs = blocks_of_tree(geometry_, tree, records);
        if (tree == Tree::by_block || tree == Tree::by_size || tree == Tree::reverse_map)
          least += 2 * std::size_t{levels_of_tree(geometry_, tree, records)};
        while (blocks.size() > needs) {
          list_.push_back(blocks.back());
          blocks.pop_back();
          changed = true;
        }
        while (blocks.size() < needs) {
          if (list_.empty()) list_.push_back(take_free());
          blocks.push_back(list_.back());
          list_.pop_back();
          changed = true;
        }
      }
      // A group that is full to the last block may have a shorter one from its guest.
      for (; list_.size() < least && !free_.empty(); changed = true) list_.push_back(take_free());
      // Much more than it needs is given back at once, so that it does not go to and fro.
      if (list_.size() > std::min(most_listed, 2 * least + 8)) {
        while (list_.size() > std::min(most_listed, least + 4)) {
          free_.push_back({Be32(list_.back()), Be32(1)});
          list_.pop_back();
        }
        free_ = joined(std::move(free_));
        changed = true;
      }
      if (!changed) return;
    }
    refuse(fmt::format("the trees of group {} do not find their blocks", group_.number()), "XFS",
           "choose a size that is one block larger");
  }

  // --- writing

  void write_tree(Tree tree, ConstByteSpan records) {
    roots_[tree] =
        write_group_tree(place_, geometry_, group_.number(), tree, blocks_.at(tree), records);
  }

  void write_trees() {
    write_tree(Tree::by_block, bytes_of_all(free_));
    std::vector<FreeExtent> sizes = free_;
    sort_by_size(sizes);
    write_tree(Tree::by_size, bytes_of_all(sizes));
    write_tree(Tree::inodes, bytes_of_all(chunks_));
    if (group_.has(Tree::free_inodes))
      write_tree(Tree::free_inodes, bytes_of_all(chunks_with_free()));
    if (group_.has(Tree::shared)) write_tree(Tree::shared, bytes_of_all(shared_));
    if (group_.has(Tree::reverse_map)) write_tree(Tree::reverse_map, bytes_of_all(all_owners()));
  }

  std::uint32_t count_of(Tree tree) const {
    return static_cast<std::uint32_t>(blocks_.at(tree).size());
  }

  void write_headers() {
    FreeSpaceHeader space = group_.free_space();
    space.blocks = static_cast<std::uint32_t>(end_);
    std::uint32_t tree_blocks = 0;
    constexpr std::array<Tree, 3> in_order{Tree::by_block, Tree::by_size, Tree::reverse_map};
    for (std::size_t i = 0; i < in_order.size(); ++i) {
      if (!group_.has(in_order[i])) continue;
      space.roots[i] = roots_.at(in_order[i]).block;
      space.levels[i] = roots_.at(in_order[i]).levels;
      tree_blocks += count_of(in_order[i]) - 1;
    }
    space.tree_blocks = tree_blocks;
    if (group_.has(Tree::reverse_map)) space.reverse_map_blocks = count_of(Tree::reverse_map);
    if (group_.has(Tree::shared)) {
      space.shared_root = roots_.at(Tree::shared).block;
      space.shared_level = roots_.at(Tree::shared).levels;
      space.shared_blocks = count_of(Tree::shared);
    }
    std::uint32_t all = 0;
    std::uint32_t longest = 0;
    for (const FreeExtent& extent : free_) {
      all += extent.count.value();
      longest = std::max(longest, extent.count.value());
    }
    space.free_blocks = all;
    space.longest = longest;
    const auto listed = static_cast<std::uint32_t>(list_.size());
    const auto slots =
        static_cast<std::uint32_t>((geometry_.sector_size() - sizeof(FreeListHeader)) / 4);
    space.list_first = 0;
    space.list_last = listed == 0 ? slots - 1 : listed - 1;
    space.list_count = listed;
    write_header(place_, geometry_, group_.number(), 1, space);

    InodeHeader inodes = group_.inodes();
    inodes.blocks = static_cast<std::uint32_t>(end_);
    std::uint32_t count = 0;
    std::uint32_t free = 0;
    for (const InodeChunk& chunk : chunks_) {
      count += inodes_in(geometry_, chunk);
      free += chunk.free_count;
    }
    inodes.inodes = count;
    inodes.free_inodes = free;
    inodes.root = roots_.at(Tree::inodes).block;
    inodes.level = roots_.at(Tree::inodes).levels;
    if (inodes.newest.value() != no_inode && end_ != group_.blocks()) inodes.newest = no_inode;
    if (group_.has(Tree::free_inodes)) {
      inodes.free_root = roots_.at(Tree::free_inodes).block;
      inodes.free_level = roots_.at(Tree::free_inodes).levels;
    }
    if (geometry_.has(ro_compatible::inode_tree_counts)) {
      inodes.tree_blocks = count_of(Tree::inodes);
      inodes.free_tree_blocks = group_.has(Tree::free_inodes) ? count_of(Tree::free_inodes) : 0;
    }
    write_header(place_, geometry_, group_.number(), 2, inodes);

    Buffer list(geometry_.sector_size(), 0xFF);
    FreeListHeader header =
        read_as<FreeListHeader>(place_, geometry_.header_at(group_.number(), 3));
    put_at(list, 0, header);
    for (std::uint32_t i = 0; i < listed; ++i)
      put_at(list, sizeof(FreeListHeader) + 4 * std::size_t{i}, Be32(list_[i]));
    set_checksum(list, offsetof(FreeListHeader, checksum));
    place_.write(geometry_.header_at(group_.number(), 3), list);
  }

  Store& place_;
  const Geometry& geometry_;
  const Cut& cut_;
  const Relocated& relocated_;
  Group group_;
  std::uint64_t end_;
  std::uint64_t kept_;  // what is behind was emptied
  const GroupChange* change_ = nullptr;
  Ranges left_;  // blocks that those who had them have no more
  std::map<Tree, std::vector<std::uint32_t>> blocks_;
  std::vector<std::uint32_t> list_;
  std::vector<FreeExtent> free_;
  std::vector<InodeChunk> chunks_;
  std::vector<SharedExtent> shared_;
  std::vector<ReverseMapping> owners_;
  std::map<Tree, Group::TreeRoot> roots_;
};

}  // namespace

void rewrite_group(Store& place, const Geometry& geometry, const Cut& cut, std::uint32_t number,
                   const Room& room, const Relocated& relocated,
                   const std::vector<SharedExtent>& shared) {
  GroupRewrite(place, geometry, cut, number, relocated).run(room, shared);
}

}  // namespace jh::xfs
