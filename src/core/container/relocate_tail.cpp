#include "core/container/relocate_tail.h"

#include <algorithm>

#include "core/base/checked.h"

namespace jh {

std::vector<MovableBlock> plan_tail_relocation(std::vector<MovableBlock> movable,
                                               std::vector<PinnedRange> pinned, std::uint64_t first,
                                               std::uint64_t length, std::uint64_t step,
                                               std::uint64_t most) {
  const auto by_place = [](const auto& a, const auto& b) { return a.at < b.at; };
  std::sort(movable.begin(), movable.end(), by_place);
  std::sort(pinned.begin(), pinned.end(),
            [](const PinnedRange& a, const PinnedRange& b) { return a.start < b.start; });
  std::vector<MovableBlock> moves;
  std::size_t block = 0;  // the next one behind the place looked at
  std::size_t range = 0;  // likewise
  std::size_t last = movable.size();
  std::uint64_t place = first;
  const auto next_place = [&](std::uint64_t behind) {
    place = behind <= first ? first : first + round_up(behind - first, step);
  };
  while (last > 0 && moves.size() < most) {
    if (place >= movable[last - 1].at) break;
    while (block < movable.size() && movable[block].at + length <= place) ++block;
    while (range < pinned.size() && pinned[range].end <= place) ++range;
    if (range < pinned.size() && pinned[range].start < place + length) {
      next_place(pinned[range].end);
      continue;
    }
    if (block < movable.size() && movable[block].at < place + length) {
      next_place(movable[block].at + length);
      continue;
    }
    moves.push_back(movable[--last]);
    moves.back().to = place;
    // Those that move are taken from the end, behind all places that are still looked at.
    next_place(place + length);
  }
  // They keep their order: what lies side by side moves as one, and is read as one later.
  std::vector<std::uint64_t> places;
  for (const MovableBlock& move : moves) places.push_back(move.to);
  std::reverse(moves.begin(), moves.end());
  for (std::size_t i = 0; i < moves.size(); ++i) moves[i].to = places[i];
  return moves;
}

}  // namespace jh
