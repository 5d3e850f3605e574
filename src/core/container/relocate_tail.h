// Closing the gaps in a file: what stands last in it goes where room became free, until nothing is
// free in front of what is in use.
#pragma once

#include <cstdint>
#include <vector>

namespace jh {

/// Something of a fixed length that may lie anywhere in the file: a block, a table.
struct MovableBlock {
  std::uint64_t at = 0;     // where it lies
  std::uint64_t owner = 0;  // what it is, to whoever made the list
  std::uint64_t to = 0;     // where it is to lie
};

/// What cannot move: [start, end).
struct PinnedRange {
  std::uint64_t start = 0;
  std::uint64_t end = 0;
};

/// Picks the blocks that have a free place in front of them, the last ones first, and says where
/// each is to go; at most `most`, in the order in which they lie. Every place begins at a multiple
/// of `step` from `first` on and is `length` long. Blocks all have that length.
std::vector<MovableBlock> plan_tail_relocation(std::vector<MovableBlock> movable,
                                               std::vector<PinnedRange> pinned, std::uint64_t first,
                                               std::uint64_t length, std::uint64_t step,
                                               std::uint64_t most);

}  // namespace jh
