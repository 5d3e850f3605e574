#include "core/fs/xfs/audit.h"

#include <fmt/format.h>

#include <bit>

#include "core/fs/xfs/rebuild.h"
#include "core/fs/xfs/rest.h"

namespace jh::xfs {
namespace {

class StructureAudit {
 public:
  StructureAudit(Store& place, const Geometry& geometry, NewestSequence& newest, Findings& findings)
      : place_(place), geometry_(geometry), newest_(newest), findings_(findings) {}

  void group(std::uint32_t number, bool with_trees) {
    where_ = fmt::format("XFS, group {}", number);
    copy(number);
    try {
      const Group group(place_, geometry_, number);
      totals_.add(group);
      newest_.note(group.free_space().log_sequence.value());
      newest_.note(group.inodes().log_sequence.value());
      const std::uint64_t list_at = geometry_.header_at(number, 3);
      newest_.note(read_as<FreeListHeader>(place_, list_at).log_sequence.value());
      if (with_trees) {
        free_space(group);
        inode_trees(group);
        other_trees(group);
      }
    } catch (const Error& error) {
      complete_ = false;
      add(error.what());
    }
  }

  void totals() {
    where_ = "XFS, superblock";
    newest_.note(geometry_.superblock().log_sequence.value());
    if (!complete_) return;
    const Superblock& super = geometry_.superblock();
    const auto same = [&](const char* what, std::uint64_t counted, std::uint64_t said) {
      if (counted != said)
        add(fmt::format("the groups have {} {}, but the superblock says {}", counted, what, said));
    };
    same("free blocks", totals_.free_blocks, super.free_blocks.value());
    same("inodes", totals_.inodes, super.inodes.value());
    same("free inodes", totals_.free_inodes, super.free_inodes.value());
  }

 private:
  void add(const std::string& what) { findings_.add(where_, what); }

  // The copies hold what never changes, and the size.
  void copy(std::uint32_t number) {
    const Buffer sector =
        read_buffer(place_, geometry_.header_at(number, 0), geometry_.sector_size());
    const auto super = parse_as<Superblock>(sector, 0);
    const Superblock& first = geometry_.superblock();
    if (super.magic.value() != superblock_magic ||
        !checksum_matches(sector, offsetof(Superblock, checksum))) {
      add("its copy of the superblock is damaged");
      return;
    }
    if (super.blocks.value() != first.blocks.value() ||
        super.groups.value() != first.groups.value() ||
        super.group_blocks.value() != first.group_blocks.value() ||
        super.block_size.value() != first.block_size.value() || super.uuid != first.uuid)
      add("its copy of the superblock differs from the first");
  }

  void free_space(const Group& group) {
    std::vector<FreeExtent> extents = group.free_extents(Tree::by_block);
    std::uint64_t blocks = 0;
    std::uint64_t longest = 0;
    for (const FreeExtent& extent : extents) {
      blocks += extent.count.value();
      longest = std::max<std::uint64_t>(longest, extent.count.value());
    }
    if (blocks != group.free_space().free_blocks.value())
      add(fmt::format("it has {} free blocks, but its header says {}", blocks,
                      group.free_space().free_blocks.value()));
    if (longest != group.free_space().longest.value()) add("its longest free extent is another");
    sort_by_size(extents);
    const std::vector<FreeExtent> sizes = group.free_extents(Tree::by_size);
    const bool same = std::equal(extents.begin(), extents.end(), sizes.begin(), sizes.end(),
                                 [](const FreeExtent& a, const FreeExtent& b) {
                                   return a.start.value() == b.start.value() &&
                                          a.count.value() == b.count.value();
                                 });
    if (!same) add("its two trees of free space do not say the same");
    std::uint64_t nodes = 0;
    for (const Tree tree : {Tree::by_block, Tree::by_size, Tree::reverse_map})
      if (group.has(tree)) {
        group.walk(
            tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
            [&](std::uint32_t, const TreeHeader&) { ++nodes; });
        --nodes;  // but for the roots
      }
    if (nodes != group.free_space().tree_blocks.value())
      add(fmt::format("the trees of its free space have {} blocks, but its header says {}", nodes,
                      group.free_space().tree_blocks.value()));
    group.free_list();
  }

  // All records of a tree of inodes, each checked by itself.
  std::vector<InodeChunk> chunks_of(const Group& group, Tree tree) {
    const bool sparse = geometry_.is(incompatible::sparse_inodes);
    std::vector<InodeChunk> all;
    std::uint64_t next = 0;
    group.walk(tree, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
      for (std::size_t i = 0; i < records; ++i) {
        auto chunk = parse_as<InodeChunk>(data, i * sizeof(InodeChunk));
        if (chunk.first.value() < next) add("its inode records are out of order");
        next = std::uint64_t{chunk.first.value()} + inodes_per_chunk;
        const std::uint64_t missing = missing_in(geometry_, chunk);
        if (!sparse) {
          // Three fields are one number of free ones.
          if (chunk.hole_mask.value() != 0 || chunk.count != 0)
            add("an inode record has too many free ones");
          chunk.count = inodes_per_chunk;
        }
        if (chunk.count != inodes_in(geometry_, chunk))
          add(fmt::format("the record of inode {} has another number of inodes than room for them",
                          chunk.first.value()));
        if (std::popcount(chunk.free.value() & ~missing) != chunk.free_count)
          add(fmt::format("the record of inode {} has another number of free ones than marks",
                          chunk.first.value()));
        all.push_back(chunk);
      }
    });
    return all;
  }

  void inode_trees(const Group& group) {
    const std::vector<InodeChunk> all = chunks_of(group, Tree::inodes);
    std::uint64_t count = 0;
    std::uint64_t free = 0;
    std::vector<InodeChunk> with_free;
    for (const InodeChunk& chunk : all) {
      count += chunk.count;
      free += chunk.free_count;
      if (chunk.free_count != 0) with_free.push_back(chunk);
    }
    if (count != group.inodes().inodes.value() || free != group.inodes().free_inodes.value())
      add(fmt::format("it has {} inodes, {} of them free, but its header says {} and {}", count,
                      free, group.inodes().inodes.value(), group.inodes().free_inodes.value()));
    for (const Be32& bucket : group.inodes().unlinked)
      if (bucket.value() != no_inode && rest_of(place_, geometry_) == Rest::clean) {
        add("inodes wait to be removed, though the filesystem was unmounted");
        break;
      }
    if (!group.has(Tree::free_inodes)) return;
    const std::vector<InodeChunk> listed = chunks_of(group, Tree::free_inodes);
    const bool same = std::equal(with_free.begin(), with_free.end(), listed.begin(), listed.end(),
                                 [](const InodeChunk& a, const InodeChunk& b) {
                                   return std::memcmp(&a, &b, sizeof(a)) == 0;
                                 });
    if (!same) add("its tree of free inodes does not say what its tree of inodes says");
  }

  void other_trees(const Group& group) {
    if (group.has(Tree::reverse_map)) {
      std::uint64_t last = 0;
      group.walk(Tree::reverse_map, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
        for (std::size_t i = 0; i < records; ++i) {
          const auto mapping = parse_as<ReverseMapping>(data, i * sizeof(ReverseMapping));
          const std::uint64_t start = mapping.start.value();
          if (start < last || mapping.count.value() == 0 ||
              start + mapping.count.value() > group.blocks())
            add("a record of its reverse map is impossible");
          last = start;
        }
      });
    }
    if (group.has(Tree::shared))
      group.walk(Tree::shared, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
        for (std::size_t i = 0; i < records; ++i)
          if (parse_as<SharedExtent>(data, i * sizeof(SharedExtent)).count.value() == 0)
            add("a record of its reference counts is empty");
      });
  }

  Store& place_;
  const Geometry& geometry_;
  NewestSequence& newest_;
  Findings& findings_;
  std::string where_;
  Totals totals_;
  bool complete_ = true;
};

}  // namespace

void audit_structure(Store& place, const Geometry& geometry, std::uint32_t first_group,
                     NewestSequence& newest, Findings& findings, Progress& progress) {
  StructureAudit audit(place, geometry, newest, findings);
  progress.begin("auditing allocation groups", 0);
  for (std::uint32_t group = 0; group < geometry.groups(); ++group) {
    audit.group(group, group >= first_group);
    progress.advance(0);
  }
  audit.totals();
  progress.end();
}

}  // namespace jh::xfs
