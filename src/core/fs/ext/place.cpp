// Where the bitmaps and inode tables of new groups go.
#include <algorithm>
#include <array>

#include "core/fs/ext/grow.h"

namespace jh::ext {
namespace {

// Free blocks of a few groups in a row. What is taken is a short list of runs.
class FreeMap {
 public:
  FreeMap(const Geometry& g, std::uint32_t first, std::uint32_t end)
      : end_(g.group_first(end - 1) + g.group_blocks(end - 1)) {
    for (std::uint32_t group = first; group < end; ++group)
      for (const BlockRange& run : g.base_metadata(group)) taken_.push_back(run);
  }

  /// First run of `count` free blocks at or behind `hint`; 0 when there is none.
  std::uint64_t allocate(std::uint64_t count, std::uint64_t& hint) {
    std::uint64_t at = hint;
    for (bool moved = true; moved;) {
      moved = false;
      for (const BlockRange& run : taken_) {
        if (run.start >= at + count || at >= run.end()) continue;
        at = run.end();
        moved = true;
      }
    }
    if (at + count > end_) return 0;
    taken_.push_back({at, count});
    hint = at + count;
    return at;
  }

 private:
  std::uint64_t end_;
  std::vector<BlockRange> taken_;
};

bool place_compressed(const Geometry& g, std::vector<NewGroup>& groups) {
  const std::uint32_t first = groups.front().number;
  FreeMap map(g, first, groups.back().number + 1);
  std::uint64_t hint = g.group_first(first);
  for (NewGroup& group : groups)
    if ((group.fields.block_bitmap = map.allocate(1, hint)) == 0) return false;
  for (NewGroup& group : groups)
    if ((group.fields.inode_bitmap = map.allocate(1, hint)) == 0) return false;
  for (NewGroup& group : groups)
    if ((group.fields.inode_table = map.allocate(g.itable_blocks, hint)) == 0) return false;
  return true;
}

void place_apart(const Geometry& g, NewGroup& group) {
  FreeMap map(g, group.number, group.number + 1);
  std::uint64_t hint = g.group_first(group.number);
  group.fields.block_bitmap = map.allocate(1, hint);
  group.fields.inode_bitmap = map.allocate(1, hint);
  group.fields.inode_table = map.allocate(g.itable_blocks, hint);
  ensure(group.fields.inode_table != 0, "a group has room for its own metadata");
}

std::array<BlockRange, 3> runs_of(const Geometry& g, const NewGroup& group) {
  return {{{group.fields.block_bitmap, 1},
           {group.fields.inode_bitmap, 1},
           {group.fields.inode_table, g.itable_blocks}}};
}

// A bitmap may stay unwritten when it can be worked out from the group itself: nothing of other
// groups lies in it. (The last group's has an end to be padded.)
bool can_work_out(const Geometry& g, const NewGroup& group, const std::vector<BlockRange>& all) {
  const std::uint64_t from = g.group_first(group.number);
  const std::uint64_t to = from + g.blocks_per_group;
  const auto own = runs_of(g, group);
  return std::none_of(all.begin(), all.end(), [&](const BlockRange& run) {
    const bool inside = run.start < to && run.end() > from;
    return inside && std::none_of(own.begin(), own.end(),
                                  [&](const BlockRange& o) { return o.start == run.start; });
  });
}

}  // namespace

std::vector<NewGroup> place_groups(const Filesystem& fs, std::uint32_t first, std::uint32_t end) {
  const Geometry& g = fs.geometry();
  std::vector<NewGroup> groups(end - first);
  for (std::uint32_t i = 0; i < groups.size(); ++i) groups[i].number = first + i;
  const bool flexible = g.has_incompat(incompat::flex_bg);
  if (!flexible || !place_compressed(g, groups))
    for (NewGroup& group : groups) place_apart(g, group);

  std::vector<BlockRange> all;
  for (const NewGroup& group : groups)
    for (const BlockRange& run : runs_of(g, group)) all.push_back(run);
  for (NewGroup& group : groups) {
    Group& fields = group.fields;
    fields.free_inodes = g.inodes_per_group;
    if (g.lazy_groups()) {
      fields.flags = group_inode_uninit;
      fields.itable_unused = g.inodes_per_group;
      if (group.number + 1 != g.group_count && can_work_out(g, group, all)) {
        fields.flags |= group_block_uninit;
        fields.free_clusters = fs.fresh_free_clusters(group.number, fields);
        continue;
      }
    }
    group.bitmap = fs.fresh_block_bitmap(group.number, fields, all);
    fields.free_clusters =
        static_cast<std::uint32_t>(count_zero_bits(group.bitmap, g.group_clusters(group.number)));
  }
  return groups;
}

}  // namespace jh::ext
