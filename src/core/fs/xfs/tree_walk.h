// How far a walk through a tree of XFS has come, from the left to the right. What the blocks of
// each level say of their neighbours has to fit, for the guest's driver goes from one to the next.
#pragma once

#include <algorithm>
#include <cstdint>
#include <limits>
#include <vector>

namespace jh::xfs {

template <class Block>
class TreeWalk {
 public:
  /// `most`: blocks that the tree can have.
  TreeWalk(std::uint64_t most, unsigned levels)
      : budget_(most), last_(levels, none), right_(levels, none) {}

  /// False: it has seen as many as there can be.
  bool enter() {
    if (budget_ == 0) return false;
    --budget_;
    return true;
  }
  /// Whether this is what a block at this level has to name on its left.
  bool is_left(unsigned level, Block left) const { return last_[level] == left; }
  /// Whether the block before it names this one on its right; the first has none before it.
  bool is_next(unsigned level, Block block) const {
    return last_[level] == none || right_[level] == block;
  }
  void pass(unsigned level, Block block, Block right) {
    last_[level] = block;
    right_[level] = right;
  }
  /// At the end: no last block of a level names another on its right.
  bool is_whole() const {
    return std::all_of(right_.begin(), right_.end(), [](Block right) { return right == none; });
  }

 private:
  static constexpr Block none = std::numeric_limits<Block>::max();
  std::uint64_t budget_;
  std::vector<Block> last_;
  std::vector<Block> right_;
};

}  // namespace jh::xfs
