// Making an ext filesystem larger while nobody has it mounted.
#pragma once

#include <string>
#include <vector>

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

struct GrowPlan {
  Geometry before;
  Geometry after;
  std::vector<std::string> notes;    // what the user should know: blocks left over, limits met
  std::uint64_t bytes_to_write = 0;  // an upper bound
  bool changes() const { return after.blocks > before.blocks; }
  /// Blocks behind the reserved descriptors that must be vacated in each group with a table copy.
  std::uint32_t descriptor_overrun() const;
};

/// The largest size a filesystem with this geometry can be given, in blocks.
std::uint64_t most_blocks(const Geometry& geometry);

/// The blocks that a longer descriptor table will need in every existing group that has a copy.
std::vector<BlockRange> table_way(const GrowPlan& plan);

/// Works out the growth to at most `store_blocks`. Throws refused (limits of the format, with the
/// size that would do) and unsupported (features).
GrowPlan plan_grow(Filesystem& fs, std::uint64_t store_blocks);

/// Carries it out. Where the plan has a descriptor_overrun(), clear_table_way() comes first. The
/// store must be at least after.blocks long. Bytes of new groups are written as unreferenced ones;
/// everything else is held by the stage.
void grow(Filesystem& fs, const GrowPlan& plan);

/// Where the metadata of one new group goes.
struct NewGroup {
  std::uint32_t number = 0;
  Group fields;
  Buffer bitmap;
};
/// Places the metadata of the new groups [first, end), which lie in one flexible group: bitmaps and
/// inode tables side by side at its start where they fit, otherwise each in its own group.
std::vector<NewGroup> place_groups(const Filesystem& fs, std::uint32_t first, std::uint32_t end);

/// A last group with fewer free blocks than this is not worth its own metadata.
constexpr std::uint32_t fewest_useful_blocks = 50;
/// What a group needs for itself, in blocks.
std::uint64_t own_overhead(const Geometry& g, std::uint32_t group);
/// Puts the number of blocks into a superblock.
void set_block_count(Superblock& super, const Geometry& g);
/// The share that is kept for the administrator stays the same share.
void scale_reserved(Superblock& super, const Filesystem& fs, const Geometry& after);

/// Writes the resize inode's block lists for the present geometry.
void rebuild_resize_inode(Filesystem& fs);

}  // namespace jh::ext
