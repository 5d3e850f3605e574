// The parts of a relocation: what must become empty, and how bitmaps and inode tables leave it.
// Only relocate*.cpp include this.
#pragma once

#include "core/base/ranges.h"
#include "core/fs/ext/allocation.h"

namespace jh::ext {

/// Throws refused: so many blocks are not free in one piece.
[[noreturn]] void no_room(std::uint64_t count);

struct ToVacate {
  Ranges blocks;                         // must become empty
  std::uint32_t group_end = UINT32_MAX;  // groups from here on go: nothing of theirs is kept
  std::uint64_t block_end = UINT64_MAX;  // blocks from here on go

  bool contains(std::uint64_t start, std::uint64_t count) const {
    return overlaps(blocks, start, start + count);
  }
  /// How far from this block all is in the way, or nothing is; at most `most` blocks.
  std::uint64_t stretch(std::uint64_t block, std::uint64_t most) const;
};

/// Bitmaps and inode tables: plan() before files move, the rest when they have.
class MetadataMover {
 public:
  MetadataMover(Filesystem& fs, Allocation& allocation, ToVacate& to_vacate)
      : fs_(fs), g_(fs.geometry()), allocation_(allocation), to_vacate_(to_vacate) {}

  /// Finds all that must leave, and a place for each. What no free run is long enough for gets
  /// blocks that files have: those become part of the way. Throws refused.
  void plan();
  void release_old();
  void move();
  /// How many blocks move.
  std::uint64_t blocks() const;

 private:
  // One bitmap or inode table on its way to a new place.
  struct Item {
    std::uint32_t group = 0;
    std::uint64_t Group::*field = nullptr;
    std::uint64_t from = 0;
    std::uint64_t to = 0;
    std::uint64_t count = 0;
  };

  std::uint64_t find_place(const Item& item);
  std::uint64_t group_end(std::uint32_t number) const;
  void note_fixed();
  Ranges barriers(const Item& item, std::uint64_t start, std::uint64_t end) const;
  std::uint64_t evict(const Item& item);

  Filesystem& fs_;
  const Geometry& g_;
  Allocation& allocation_;
  ToVacate& to_vacate_;
  std::vector<Item> items_;
  Ranges fixed_;  // blocks that no file has: filled when the first file must make room
};

}  // namespace jh::ext
