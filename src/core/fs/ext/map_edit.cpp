#include "core/fs/ext/map_edit.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

constexpr std::size_t root_bytes = sizeof(Inode::block);

// One level of the tree: entries of 12 bytes, and where each begins in the file.
struct Level {
  std::vector<std::array<std::uint8_t, sizeof(Extent)>> entries;
  std::vector<std::uint64_t> starts;
};

Level leaf_level(const std::vector<MappedExtent>& runs) {
  Level level;
  for (const MappedExtent& run : runs) {
    const std::uint64_t most = run.unwritten ? max_written_extent - 1 : max_written_extent;
    for (std::uint64_t done = 0; done < run.count; done += most) {
      const std::uint64_t count = std::min(most, run.count - done);
      const std::uint64_t physical = run.physical + done;
      Extent extent{};
      extent.block = static_cast<std::uint32_t>(run.logical + done);
      extent.len = static_cast<std::uint16_t>(count + (run.unwritten ? max_written_extent : 0));
      extent.start_lo = static_cast<std::uint32_t>(physical & 0xFFFFFFFF);
      extent.start_hi = static_cast<std::uint16_t>(physical >> 32);
      auto& raw = level.entries.emplace_back();
      std::memcpy(raw.data(), &extent, sizeof(extent));
      level.starts.push_back(run.logical + done);
    }
  }
  return level;
}

void put_node(ByteSpan raw, const Level& level, std::size_t first, std::size_t count,
              std::uint16_t most, std::uint16_t depth) {
  std::fill(raw.begin(), raw.end(), std::uint8_t{0});
  ExtentHeader header{};
  header.magic = extent_magic;
  header.entries = static_cast<std::uint16_t>(count);
  header.max = most;
  header.depth = depth;
  header.generation = 0;
  put_at(raw, 0, header);
  for (std::size_t i = 0; i < count; ++i)
    put_at(raw, sizeof(header) + i * sizeof(Extent), level.entries[first + i]);
}

// The level above: one index entry for each node of this one, which is written.
Level write_level(Filesystem& fs, Allocation& allocation, const InodeRecord& inode,
                  const Level& level, std::uint16_t depth, std::uint64_t& tree_blocks) {
  const Geometry& g = fs.geometry();
  const auto most =
      static_cast<std::uint16_t>((g.block_size - sizeof(ExtentHeader)) / sizeof(Extent));
  Level above;
  for (std::size_t first = 0; first < level.entries.size(); first += most) {
    const std::size_t count = std::min<std::size_t>(most, level.entries.size() - first);
    const auto block =
        allocation.allocate(1, g.group_first((inode.ino - 1) / g.inodes_per_group), {});
    if (!block) refuse("no free block is left for a file's list of extents", "ext filesystem");
    Buffer raw(g.block_size);
    put_node(raw, level, first, count, most, depth);
    set_extent_sum(fs, inode, raw);
    fs.store().write(g.offset(*block), raw);
    ++tree_blocks;
    ExtentIndex index{};
    index.block = static_cast<std::uint32_t>(level.starts[first]);
    index.leaf_lo = static_cast<std::uint32_t>(*block & 0xFFFFFFFF);
    index.leaf_hi = static_cast<std::uint16_t>(*block >> 32);
    index.unused = 0;
    auto& entry = above.entries.emplace_back();
    std::memcpy(entry.data(), &index, sizeof(index));
    above.starts.push_back(level.starts[first]);
  }
  return above;
}

void set_block_count(const Filesystem& fs, InodeRecord& inode, std::uint64_t blocks) {
  const Geometry& g = fs.geometry();
  if (inode.attribute_block() != 0) blocks += g.cluster_ratio;
  inode.set_counted(blocks * inode.count_unit(g));
}

}  // namespace

std::vector<MappedExtent> read_runs(Filesystem& fs, const InodeRecord& inode) {
  std::vector<MappedExtent> runs;
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    runs.push_back(run);
    return true;
  };
  visit_blocks(fs, inode, visitor);
  return runs;
}

namespace {

struct TreeChange {
  std::uint64_t before = 0;  // blocks of the tree
  std::uint64_t after = 0;
};

TreeChange rebuild_tree(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                        const std::vector<MappedExtent>& runs) {
  if (!inode.has_flag(flag_extents))
    unsupported(fmt::format("inode {} has no extents", inode.ino), "ext filesystem");
  TreeChange change;
  BlockVisitor old_tree;
  old_tree.data = [](const MappedExtent&) { return true; };
  old_tree.tree = [&](std::uint64_t block) {
    allocation.release(block, 1);
    ++change.before;
    return true;
  };
  visit_blocks(fs, inode, old_tree);
  Level level = leaf_level(runs);
  std::uint16_t depth = 0;
  constexpr std::uint16_t most_in_root = (root_bytes - sizeof(ExtentHeader)) / sizeof(Extent);
  while (level.entries.size() > most_in_root) {
    level = write_level(fs, allocation, inode, level, depth, change.after);
    ++depth;
  }
  inode.store_fields();
  put_node(ByteSpan(inode.raw).subspan(offsetof(Inode, block), root_bytes), level, 0,
           level.entries.size(), most_in_root, depth);
  std::memcpy(&inode.fields, inode.raw.data(), std::min(inode.raw.size(), sizeof(Inode)));
  return change;
}

}  // namespace

void write_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                const std::vector<MappedExtent>& runs) {
  const TreeChange change = rebuild_tree(fs, allocation, inode, runs);
  std::uint64_t blocks = 0;
  for (const MappedExtent& run : runs) blocks += run.count;
  set_block_count(fs, inode, blocks + change.after * fs.geometry().cluster_ratio);
}

std::int64_t replace_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                          const std::vector<MappedExtent>& runs) {
  const TreeChange change = rebuild_tree(fs, allocation, inode, runs);
  const std::uint64_t unit = inode.count_unit(fs.geometry()) * fs.geometry().cluster_ratio;
  inode.set_counted(
      checked_sub(checked_add(inode.counted(), change.after * unit), change.before * unit));
  return static_cast<std::int64_t>(change.after) - static_cast<std::int64_t>(change.before);
}

}  // namespace jh::ext
