// Capacity: whether what lies behind an end finds room in front of it.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>
#include <utility>

#include "core/fs/xfs/cut.h"

namespace jh::xfs {

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

/// Looks at free space and inode records of all groups once, and answers for any end. Memory:
/// 16 bytes for each free extent and for each inode record.
class Capacity {
 public:
  Capacity(Store& place, const Geometry& geometry);

  /// The end at most there, with a place for the log and the room that the last group has to keep.
  Cut cut_at(std::uint64_t blocks) const;
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
    std::uint64_t units = 0;  // of inodes that could be made in them
  };
  struct GroupFacts {
    std::vector<FreeExtent> free;
    std::vector<std::uint64_t> free_before;  // blocks in front of each of them, and of all
    std::vector<InodeChunk> chunks;
    FreeBySize by_size;
    FreeSpaceHeader space{};
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
  FreeBySize without_log(const Cut& cut, std::uint32_t group) const;
  bool log_leaves(const Cut& cut) const;
  void place_log(Cut& cut) const;
  void keep_room(Cut& cut) const;
  std::uint64_t free_before(std::uint32_t group, std::uint64_t block) const;
  std::optional<Blocks> best_place_in(std::uint32_t group, std::uint64_t end,
                                      std::uint64_t count) const;
  std::uint64_t free_in(const Blocks& blocks) const;
  void count_inodes(const Cut& cut, Needed& needed, std::uint64_t& units) const;
  const std::vector<std::uint32_t>& own_of(std::uint32_t group) const;

  Store& place_;
  const Geometry& geometry_;
  std::vector<GroupFacts> groups_;
  // Of those groups that were asked for: their own blocks, ascending; the best place for the log.
  mutable std::map<std::uint32_t, std::vector<std::uint32_t>> own_;
  mutable std::map<std::uint32_t, std::optional<Blocks>> log_places_;
};

}  // namespace jh::xfs
