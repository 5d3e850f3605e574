#include "core/fs/xfs/grow.h"

#include <fmt/format.h>

#include "core/fs/xfs/rebuild.h"

namespace jh::xfs {
namespace {

// --- the last group

std::vector<FreeExtent> extended(const Group& group, std::uint64_t new_blocks) {
  std::vector<FreeExtent> extents = group.free_extents();
  const std::uint64_t old_blocks = group.blocks();
  const auto more = static_cast<std::uint32_t>(new_blocks - old_blocks);
  if (!extents.empty() &&
      extents.back().start.value() + std::uint64_t{extents.back().count.value()} == old_blocks)
    extents.back().count = extents.back().count.value() + more;
  else
    extents.push_back({Be32(static_cast<std::uint32_t>(old_blocks)), Be32(more)});
  return extents;
}

template <class Header>
void write_new_header(Store& place, std::uint64_t at, std::uint64_t sector, const Header& header) {
  Buffer bytes(sector);
  put_at(bytes, 0, header);
  set_checksum(bytes, offsetof(Header, checksum));
  place.write_unreferenced(at, bytes);
}

void extend_last_group(Store& place, const Geometry& geometry, std::uint64_t new_blocks) {
  const std::uint32_t number = geometry.groups() - 1;
  const Group group(place, geometry, number);
  std::vector<FreeExtent> extents = extended(group, new_blocks);
  std::vector<std::uint32_t> ready = group.free_list();
  const std::size_t listed = ready.size();
  FreeTree by_block(place, geometry, group, Tree::by_block);
  FreeTree by_size(place, geometry, group, Tree::by_size);
  ensure(by_block.make_room(extents.size(), ready) && by_size.make_room(extents.size(), ready),
         "room in the last group's trees was looked for before");
  by_block.write(extents);
  sort_by_size(extents);
  by_size.write(extents);

  const auto taken = static_cast<std::uint32_t>(listed - ready.size());
  FreeSpaceHeader header = group.free_space();
  header.blocks = static_cast<std::uint32_t>(new_blocks);
  header.roots[0] = by_block.root();
  header.roots[1] = by_size.root();
  header.levels[0] = by_block.height();
  header.levels[1] = by_size.height();
  header.free_blocks =
      header.free_blocks.value() + static_cast<std::uint32_t>(new_blocks - group.blocks());
  header.longest = extents.back().count.value();
  header.tree_blocks = header.tree_blocks.value() + taken;
  const auto slots =
      static_cast<std::uint32_t>((geometry.sector_size() - sizeof(FreeListHeader)) / 4);
  if (taken != 0) {
    header.list_first = (header.list_first.value() + taken) % slots;
    header.list_count = header.list_count.value() - taken;
  }
  write_header(place, geometry, number, 1, header);
  InodeHeader inodes = group.inodes();
  inodes.blocks = static_cast<std::uint32_t>(new_blocks);
  write_header(place, geometry, number, 2, inodes);
}

// --- a new group

class NewGroup {
 public:
  NewGroup(Store& place, const Geometry& geometry, std::uint32_t number, std::uint64_t blocks)
      : place_(place), geometry_(geometry), number_(number), blocks_(blocks) {}

  void write() {
    // In this order in every group that is made: by block, by size, inodes, free inodes, reverse
    // map, reference counts.
    std::uint32_t next = static_cast<std::uint32_t>(geometry_.header_blocks());
    by_block_ = next++;
    by_size_ = next++;
    inodes_ = next++;
    if (geometry_.has(ro_compatible::free_inode_tree)) free_inodes_ = next++;
    if (geometry_.has(ro_compatible::reverse_map)) reverse_map_ = next++;
    if (geometry_.has(ro_compatible::shared_extents)) shared_ = next++;
    first_free_ = next;
    write_headers();
    write_roots();
  }

 private:
  std::uint32_t free() const { return static_cast<std::uint32_t>(blocks_ - first_free_); }

  void write_headers() {
    const std::uint64_t sector = geometry_.sector_size();
    FreeSpaceHeader space{};
    space.magic = free_space_magic;
    space.version = 1;
    space.group = number_;
    space.blocks = static_cast<std::uint32_t>(blocks_);
    space.roots[0] = by_block_;
    space.roots[1] = by_size_;
    space.levels[0] = 1;
    space.levels[1] = 1;
    if (reverse_map_ != 0) {
      space.roots[2] = reverse_map_;
      space.levels[2] = 1;
      space.reverse_map_blocks = 1;
    }
    if (shared_ != 0) {
      space.shared_root = shared_;
      space.shared_level = 1;
      space.shared_blocks = 1;
    }
    space.list_first = 1;
    space.list_last = 0;
    space.free_blocks = free();
    space.longest = free();
    space.uuid = geometry_.metadata_uuid();
    write_new_header(place_, geometry_.header_at(number_, 1), sector, space);

    InodeHeader inodes{};
    inodes.magic = inode_header_magic;
    inodes.version = 1;
    inodes.group = number_;
    inodes.blocks = static_cast<std::uint32_t>(blocks_);
    inodes.root = inodes_;
    inodes.level = 1;
    inodes.newest = no_inode;
    inodes.directory = no_inode;
    for (Be32& bucket : inodes.unlinked) bucket = no_inode;
    inodes.uuid = geometry_.metadata_uuid();
    if (free_inodes_ != 0) {
      inodes.free_root = free_inodes_;
      inodes.free_level = 1;
    }
    if (geometry_.has(ro_compatible::inode_tree_counts)) {
      inodes.tree_blocks = 1;
      inodes.free_tree_blocks = free_inodes_ != 0 ? 1 : 0;
    }
    write_new_header(place_, geometry_.header_at(number_, 2), sector, inodes);

    Buffer list(sector, 0xFF);
    FreeListHeader header{};
    header.magic = free_list_magic;
    header.group = number_;
    header.uuid = geometry_.metadata_uuid();
    put_at(list, 0, header);
    set_checksum(list, offsetof(FreeListHeader, checksum));
    place_.write_unreferenced(geometry_.header_at(number_, 3), list);
  }

  void write_roots() {
    const FreeExtent all{Be32(first_free_), Be32(free())};
    root(Tree::by_block, by_block_, jh::bytes_of(all), 1);
    root(Tree::by_size, by_size_, jh::bytes_of(all), 1);
    root(Tree::inodes, inodes_, {}, 0);
    if (free_inodes_ != 0) root(Tree::free_inodes, free_inodes_, {}, 0);
    if (reverse_map_ != 0) write_reverse_map();
    if (shared_ != 0) root(Tree::shared, shared_, {}, 0);
  }

  void write_reverse_map() {
    std::vector<ReverseMapping> owners;
    const auto add = [&](std::uint32_t start, std::uint32_t count, std::uint64_t who) {
      owners.push_back({Be32(start), Be32(count), Be64(who), Be64(0)});
    };
    add(0, by_block_, owner::filesystem);
    add(by_block_, 2, owner::group);
    add(inodes_, reverse_map_ - inodes_, owner::inode_trees);
    add(reverse_map_, 1, owner::group);
    if (shared_ != 0) add(shared_, 1, owner::shared_tree);
    Buffer data;
    for (const ReverseMapping& each : owners) {
      const ConstByteSpan bytes = jh::bytes_of(each);
      data.insert(data.end(), bytes.begin(), bytes.end());
    }
    root(Tree::reverse_map, reverse_map_, data, owners.size());
  }

  void root(Tree tree, std::uint32_t block, ConstByteSpan data, std::size_t records) {
    const std::uint64_t at = geometry_.block_at(number_, block);
    TreeHeader header{};
    header.records = static_cast<std::uint16_t>(records);
    header.left = no_block;
    header.right = no_block;
    place_.write_unreferenced(at, tree_block(geometry_, number_, tree, at, header, data));
  }

  Store& place_;
  const Geometry& geometry_;
  std::uint32_t number_;
  std::uint64_t blocks_;
  std::uint32_t by_block_ = 0, by_size_ = 0, inodes_ = 0, free_inodes_ = 0, reverse_map_ = 0,
                shared_ = 0, first_free_ = 0;
};

}  // namespace

Growth plan_growth(const Geometry& geometry, std::uint64_t place_size) {
  const std::uint64_t each = geometry.group_blocks();
  Growth growth;
  growth.blocks = place_size / geometry.block_size();
  // What would be too small for a group is left over.
  if (const std::uint64_t rest = growth.blocks % each; rest != 0 && rest < least_group)
    growth.blocks -= rest;
  growth.blocks = std::max(growth.blocks, geometry.blocks());
  const std::uint64_t groups = ceil_div(growth.blocks, each);
  constexpr std::uint64_t most_groups = 1ULL << 31;
  if (groups >= most_groups)
    refuse(fmt::format("it would have {} groups, more than XFS can", groups), "XFS",
           "make the filesystem anew for a disk of this size");
  growth.groups = static_cast<std::uint32_t>(groups);
  growth.last_group =
      growth.groups == geometry.groups() ? growth.blocks - each * (groups - 1) : each;
  growth.free_blocks = growth.last_group - geometry.blocks_of(geometry.groups() - 1);
  for (std::uint64_t group = geometry.groups(); group < groups; ++group)
    growth.free_blocks +=
        std::min(each, growth.blocks - group * each) - geometry.blocks_of_empty_group();
  return growth;
}

std::uint64_t bytes_to_write(const Geometry& geometry, const Growth& growth) {
  const std::uint64_t fresh = growth.groups - geometry.groups();
  const std::uint64_t superblocks = std::uint64_t{growth.groups} * geometry.sector_size();
  const std::uint64_t trees =
      (growth.last_group / 64 + 64) * 16;  // of its extents, at the very most
  return superblocks + fresh * (geometry.blocks_of_empty_group() + 1) * geometry.block_size() +
         trees + 8 * geometry.block_size();
}

void check_last_group(Store& place, const Geometry& geometry, const Growth& growth) {
  const std::uint32_t number = geometry.groups() - 1;
  if (growth.last_group == geometry.blocks_of(number)) return;
  const Group group(place, geometry, number);
  const std::size_t records = extended(group, growth.last_group).size();
  std::vector<std::uint32_t> ready = group.free_list();
  for (const Tree tree : {Tree::by_block, Tree::by_size})
    if (!FreeTree(place, geometry, group, tree).make_room(records, ready))
      refuse("the last group's free list is too short for its trees to become longer", "XFS",
             "let the guest write to the filesystem once, then run again");
}

void grow(Store& place, const Geometry& geometry, const Growth& growth, Progress& progress) {
  const std::uint64_t each = geometry.group_blocks();
  const std::uint32_t old_groups = geometry.groups();
  progress.begin("adding allocation groups", 0);
  for (std::uint32_t group = old_groups; group < growth.groups; ++group) {
    NewGroup(place, geometry, group, std::min(each, growth.blocks - group * each)).write();
    progress.advance(0);
  }
  if (growth.last_group != geometry.blocks_of(old_groups - 1))
    extend_last_group(place, geometry, growth.last_group);

  Superblock changed = geometry.superblock();
  changed.blocks = growth.blocks;
  changed.groups = growth.groups;
  changed.free_blocks = changed.free_blocks.value() + growth.free_blocks;
  const Buffer super = superblock_sector(place, geometry, changed);
  for (std::uint32_t group = growth.groups; group-- > 0;) {
    const std::uint64_t at = geometry.group_at(group);
    if (group < old_groups)
      place.write(at, super);
    else
      place.write_unreferenced(at, super);
    progress.advance(0);
  }
  progress.end();
}

}  // namespace jh::xfs
