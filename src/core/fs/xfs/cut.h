// Cut: where a smaller filesystem ends, and whether what lies behind finds room in front of it.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>
#include <utility>

#include "core/fs/xfs/group.h"

namespace jh::xfs {

struct Cut {
  std::uint64_t blocks = 0;      // of the filesystem afterwards
  std::uint32_t groups = 0;      // afterwards
  std::uint64_t last_group = 0;  // blocks of the last of them

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

/// Where the log may go: checkers compute the root folder's number from whether it lies in the
/// first group.
std::uint32_t first_group_for_log(const Geometry& geometry, std::uint32_t groups);

/// Blocks that a guest sets aside in a group of this length, so that its trees can always grow,
/// and a few for its free list. Source: the worst cases of "Reverse-Mapping B+tree",
/// "Reference Count B+tree" and "Inode B+trees".
std::uint64_t set_aside(const Geometry& geometry, std::uint64_t group_blocks);

/// What ending it there asks for. All in blocks but for what says so.
struct Needed {
  std::uint64_t moving = 0;   // in use behind the end
  std::uint64_t inodes = 0;   // inodes in use behind the end
  std::uint64_t more = 0;     // that splitting files may take, at most
  std::uint64_t usable = 0;   // free in front of the end
  std::uint64_t missing = 0;  // 0: there is room
  std::string obstacle{};     // what is missing besides
  bool fits() const { return missing == 0 && obstacle.empty(); }
};

/// Looks at free space and inode records of all groups once, and answers for any end. Memory: 8
/// bytes for each free extent, 16 for each inode record.
class Capacity {
 public:
  Capacity(Store& place, const Geometry& geometry);

  Needed needed(const Cut& cut) const;
  /// The largest end at most `blocks` from the beginning that works; nothing: there is none.
  std::optional<Cut> best_cut(std::uint64_t blocks) const;
  /// The smallest that works, and what is in the way of less.
  std::pair<Cut, std::string> floor() const;

 private:
  static constexpr std::size_t classes = 32;
  // Free extents of a group by their sizes: class n has those of 2^n blocks and more.
  struct FreeBySize {
    std::array<std::uint64_t, classes> extents{};
    std::array<std::uint64_t, classes> blocks{};
    std::uint64_t all = 0;
    std::uint64_t longest = 0;
    std::uint64_t units = 0;  // of inodes that could be made in them
  };
  struct GroupFacts {
    std::vector<FreeExtent> free;
    std::vector<InodeChunk> chunks;
    FreeBySize by_size;
    std::uint64_t own_blocks = 0;  // of its headers, its trees and its free list
  };
  // A group that ends earlier.
  struct Clipped {
    FreeBySize by_size;
    std::uint64_t own_in_front = 0;
    std::uint64_t own_blocks = 0;
  };

  void sort_in(FreeBySize& out, std::uint64_t start, std::uint64_t count) const;
  Clipped clip(std::uint32_t group, std::uint64_t blocks) const;
  std::uint64_t pieces_for(std::vector<std::pair<const FreeBySize*, std::uint64_t>> groups,
                           std::uint64_t blocks) const;
  void count_inodes(const Cut& cut, Needed& needed, std::uint64_t& units) const;
  const std::vector<std::uint32_t>& own_of(std::uint32_t group) const;

  Store& place_;
  const Geometry& geometry_;
  std::vector<GroupFacts> groups_;
  mutable std::map<std::uint32_t, std::vector<std::uint32_t>> own_;  // sorted, of those asked for
};

}  // namespace jh::xfs
