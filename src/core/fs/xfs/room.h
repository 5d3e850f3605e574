// Room: free blocks in front of a new end, handed out; and where what lay behind it lies now.
#pragma once

#include <map>
#include <optional>
#include <set>

#include "core/fs/xfs/cut.h"
#include "core/fs/xfs/inode.h"

namespace jh::xfs {

/// Blocks through all groups and the numbers that the filesystem gives them.
class Lines {
 public:
  explicit Lines(const Geometry& geometry) : geometry_(geometry) {}
  std::uint64_t line(std::uint32_t group, std::uint64_t block) const {
    return geometry_.group_blocks() * group + block;
  }
  std::uint64_t line(std::uint64_t number) const {
    return line(geometry_.group_of(number), geometry_.block_in_group(number));
  }
  std::uint64_t number(std::uint64_t line) const {
    return line / geometry_.group_blocks() << geometry_.superblock().group_blocks_log |
           line % geometry_.group_blocks();
  }
  std::uint32_t group(std::uint64_t line) const {
    return static_cast<std::uint32_t>(line / geometry_.group_blocks());
  }
  std::uint64_t at(std::uint64_t line) const { return line * geometry_.block_size(); }

 private:
  const Geometry& geometry_;
};

/// Hands out the longest free extents first, each from its beginning on, so that few files are
/// split; leaves in each group what its guest sets aside there, and the place of the log.
class Room {
 public:
  Room(Store& place, const Geometry& geometry, const Cut& cut);

  /// All of these throw refused when there is nothing left.
  std::vector<Blocks> take(std::uint64_t count);
  Blocks take_whole(std::uint64_t count);
  Blocks take_aligned(std::uint64_t count, std::uint64_t alignment);

  bool took_from(std::uint32_t group) const { return touched_[group]; }
  /// What a group has free still, by its beginnings.
  std::vector<FreeExtent> left(std::uint32_t group) const;

 private:
  struct LongestFirst {
    bool operator()(const Blocks& a, const Blocks& b) const {
      return a.count != b.count ? a.count > b.count : a.line < b.line;
    }
  };
  Blocks take_from(Blocks free, std::uint64_t skip, std::uint64_t count);
  std::uint64_t usable(const Blocks& free) const;
  [[noreturn]] static void full();

  const Geometry& geometry_;
  Lines lines_;
  std::set<Blocks, LongestFirst> free_;
  std::optional<Blocks> current_;      // the one that is being used up; not in `free_`
  std::vector<std::uint64_t> usable_;  // blocks of each group
  std::vector<bool> touched_;
};

/// Extents of files that lie behind the new end, whole or in part, and where they go.
class Moves {
 public:
  enum class Kind {
    content,    // of a file: copied, by sharing where the host can
    reserved,   // reads as zeros: not copied
    rewritten,  // written anew by whoever knows what is in it
    whole,      // the same, and must stay in one piece
  };
  /// Before anything is settled. Content that several files share is noted for each of them.
  void note(std::uint64_t line, std::uint64_t count, Kind kind);
  /// Finds a place for each of them.
  void place_all(Room& room);

  struct Move {
    std::uint64_t from = 0;
    std::uint64_t to = 0;
    std::uint64_t count = 0;
    Kind kind = Kind::content;
  };
  /// Ascending by `from`.
  const std::vector<Move>& all() const { return moves_; }
  /// Where blocks lie afterwards: those that were noted elsewhere, in pieces; others stay.
  void for_each_place(std::uint64_t line, std::uint64_t count,
                      const std::function<void(Blocks)>& visit) const;

 private:
  std::vector<Move> moves_;
};

/// Inodes behind the new end, and their new numbers: whole units keep their order.
class Renumbering {
 public:
  explicit Renumbering(const Geometry& geometry) : unit_(inodes_in_unit(geometry)) {}
  /// Ascending by the old first number.
  void add(std::uint64_t old_first, std::uint64_t new_first) {
    units_.emplace_back(old_first, new_first);
  }
  bool empty() const { return units_.empty(); }
  std::uint64_t of(std::uint64_t inode) const;
  const std::vector<std::pair<std::uint64_t, std::uint64_t>>& units() const { return units_; }

 private:
  std::uint64_t unit_;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> units_;
};

}  // namespace jh::xfs
