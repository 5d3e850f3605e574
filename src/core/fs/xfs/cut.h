// Cut: where a smaller filesystem ends, and what of a group depends on that.
#pragma once

#include <functional>

#include "core/fs/xfs/group.h"

namespace jh::xfs {

/// Blocks side by side. `line` counts them through all groups, in the order of their bytes.
struct Blocks {
  std::uint64_t line = 0;
  std::uint64_t count = 0;
  std::uint64_t end() const { return line + count; }
};

struct Cut {
  std::uint64_t blocks = 0;      // of the filesystem afterwards
  std::uint32_t groups = 0;      // afterwards
  std::uint64_t last_group = 0;  // blocks of the last of them
  std::uint64_t kept = 0;        // of these, that stay as they are: the rest becomes free
  Blocks log{};                  // where the log goes, and what lies there makes room; 0: it stays

  /// The first line of what becomes free, or lies behind the end.
  std::uint64_t kept_end() const { return blocks - (last_group - kept); }
  /// Whether what lies there has to move.
  bool leaves(std::uint64_t line) const {
    return line >= kept_end() || (line >= log.line && line < log.end());
  }
  /// Calls visit for each part of these blocks that has to move, or that stays.
  void for_each_part(const Blocks& all,
                     const std::function<void(const Blocks& part, bool leaves)>& visit) const;

  std::uint64_t blocks_of(const Geometry& geometry, std::uint32_t group) const {
    return group + 1 == groups ? last_group : geometry.group_blocks();
  }
};

/// The end at most `blocks` from the beginning where a group can end; what would be too small for
/// one more stays unused.
Cut cut_at(const Geometry& geometry, std::uint64_t blocks);

/// Blocks in which inodes are made: one record's, or more where a block holds several records.
std::uint64_t inode_unit(const Geometry& geometry);
/// Inodes in that.
std::uint64_t inodes_in_unit(const Geometry& geometry);
/// Where a unit may begin, in blocks of its group.
std::uint64_t inode_alignment(const Geometry& geometry);
/// Whether a record's inodes lie behind the end of a group of this length, or where its driver does
/// not look for any: it goes up to the last whole cluster.
bool is_behind(const Geometry& geometry, const InodeChunk& chunk, std::uint64_t group_blocks);

/// Blocks that a guest sets aside in a group that stays, so that its trees can always grow beyond
/// what they have, and a few for its free list; what the log has they never describe. Source: the
/// worst cases of "Reverse-Mapping B+tree", "Reference Count B+tree" and "Inode B+trees".
std::uint64_t set_aside(const Geometry& geometry, const FreeSpaceHeader& space, const Cut& cut,
                        std::uint32_t group);

}  // namespace jh::xfs
