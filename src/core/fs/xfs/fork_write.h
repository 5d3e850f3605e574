// Fork: the list of a file's extents written anew, in its inode or as a tree.
#pragma once

#include "core/fs/xfs/room.h"

namespace jh::xfs {

/// Blocks of a tree that a file had, and has now.
struct ForkChange {
  std::size_t kept = 0;              // written anew where they were
  std::vector<std::uint64_t> added;  // lines
  std::vector<std::uint64_t> freed;
};

class ForkWriter {
 public:
  ForkWriter(Store& place, const Geometry& geometry, Room& room)
      : place_(place), geometry_(geometry), lines_(geometry), room_(room) {}

  /// `inode`: its bytes, with its new number in them; its format, count and fork are set, its
  /// checksum is not. `had`: lines of its tree that may stay; more are taken from the room. Throws
  /// refused when the fork has no room for a tree.
  ForkChange write(ByteSpan inode, bool attributes, const std::vector<FileExtent>& extents,
                   const std::vector<std::uint64_t>& had);

 private:
  struct Child {
    std::uint64_t key = 0;
    std::uint64_t line = 0;
    bool stays = false;
  };
  std::vector<Child> write_level(unsigned level, const std::vector<Child>& below,
                                 const std::vector<FileExtent>& extents, ForkChange& change,
                                 const std::vector<std::uint64_t>& had, std::uint64_t owner);

  Store& place_;
  const Geometry& geometry_;
  Lines lines_;
  Room& room_;
};

}  // namespace jh::xfs
