#include "core/fs/xfs/room.h"

#include <algorithm>

#include "core/base/errors.h"

namespace jh::xfs {

// --- Room

Room::Room(Store& place, const Geometry& geometry, const Cut& cut)
    : geometry_(geometry), lines_(geometry), usable_(cut.groups), touched_(cut.groups) {
  for (std::uint32_t number = 0; number < cut.groups; ++number) {
    const Group group(place, geometry, number);
    const std::uint64_t end = cut.blocks_of(geometry, number);
    std::uint64_t all = 0;
    for (const FreeExtent& extent : group.free_extents()) {
      const std::uint64_t start = extent.start.value();
      if (start >= end) break;
      cut.for_each_part({lines_.line(number, start), extent.count.value()},
                        [&](const Blocks& part, bool leaves) {
                          if (leaves) return;
                          free_.insert(part);
                          all += part.count;
                        });
    }
    std::uint64_t aside = set_aside(geometry, group.free_space(), cut, number);
    std::uint64_t becoming_free = 0;
    if (number + 1 == cut.groups && cut.kept < geometry.blocks_of(number)) {
      // Its trees that do not stay where they are are written anew.
      becoming_free = end - cut.kept;
      for (const std::uint32_t block : group.own_blocks())
        if (block >= cut.kept) ++aside;
    }
    usable_[number] = std::min(all, all + becoming_free - std::min(all + becoming_free, aside));
  }
}

void Room::full() {
  refuse("there is less free room in front of the new end than was counted", "XFS",
         "choose a larger size");
}

std::uint64_t Room::usable(const Blocks& free) const {
  return std::min(free.count, usable_[lines_.group(free.line)]);
}

Blocks Room::take_from(Blocks free, std::uint64_t skip, std::uint64_t count) {
  const std::uint32_t group = lines_.group(free.line);
  usable_[group] -= count;
  touched_[group] = true;
  if (skip != 0) free_.insert({free.line, skip});
  const Blocks rest{free.line + skip + count, free.count - skip - count};
  current_.reset();
  if (rest.count != 0) current_ = rest;
  return {free.line + skip, count};
}

std::vector<Blocks> Room::take(std::uint64_t count) {
  std::vector<Blocks> taken;
  while (count != 0) {
    Blocks from;
    if (current_ && usable(*current_) != 0) {
      from = *current_;
    } else {
      if (current_) free_.insert(*current_);
      current_.reset();
      const auto next = std::find_if(free_.begin(), free_.end(),
                                     [&](const Blocks& free) { return usable(free) != 0; });
      if (next == free_.end()) full();
      from = *next;
      free_.erase(next);
    }
    taken.push_back(take_from(from, 0, std::min(count, usable(from))));
    count -= taken.back().count;
  }
  return taken;
}

Blocks Room::take_whole(std::uint64_t count) { return take_aligned(count, 1); }

Blocks Room::take_aligned(std::uint64_t count, std::uint64_t alignment) {
  const auto skipped = [&](const Blocks& free) {
    const std::uint64_t start = free.line % geometry_.group_blocks();
    return round_up(start, alignment) - start;
  };
  const auto fits = [&](const Blocks& free) {
    return usable_[lines_.group(free.line)] >= count && free.count >= skipped(free) + count;
  };
  if (current_) {
    if (fits(*current_)) return take_from(*current_, skipped(*current_), count);
    free_.insert(*current_);
    current_.reset();
  }
  const auto next = std::find_if(free_.begin(), free_.end(), fits);
  if (next == free_.end()) full();
  const Blocks from = *next;
  free_.erase(next);
  return take_from(from, skipped(from), count);
}

std::vector<FreeExtent> Room::left(std::uint32_t group) const {
  std::vector<Blocks> all;
  for (const Blocks& free : free_)
    if (lines_.group(free.line) == group) all.push_back(free);
  if (current_ && lines_.group(current_->line) == group) all.push_back(*current_);
  std::sort(all.begin(), all.end(),
            [](const Blocks& a, const Blocks& b) { return a.line < b.line; });
  std::vector<FreeExtent> out;
  for (const Blocks& free : all)
    out.push_back({Be32(static_cast<std::uint32_t>(free.line % geometry_.group_blocks())),
                   Be32(static_cast<std::uint32_t>(free.count))});
  return out;
}

// --- Moves

void Moves::note(std::uint64_t line, std::uint64_t count, Kind kind) {
  moves_.push_back({line, 0, count, kind});
}

void Moves::place_all(Room& room) {
  std::sort(moves_.begin(), moves_.end(), [](const Move& a, const Move& b) {
    return a.from != b.from ? a.from < b.from : a.count > b.count;
  });
  std::vector<Move> placed;
  std::uint64_t end = 0;  // of what has a place
  for (const Move& move : moves_) {
    if (move.from + move.count <= end) continue;
    const std::uint64_t from = std::max(move.from, end);
    end = move.from + move.count;
    std::vector<Blocks> places;
    if (move.kind == Kind::whole)
      places.push_back(room.take_whole(end - from));
    else
      places = room.take(end - from);
    std::uint64_t at = from;
    for (const Blocks& place : places) {
      placed.push_back({at, place.line, place.count, move.kind});
      at += place.count;
    }
  }
  moves_ = std::move(placed);
}

void Moves::for_each_place(std::uint64_t line, std::uint64_t count,
                           const std::function<void(Blocks)>& visit) const {
  const std::uint64_t end = line + count;
  auto move = std::upper_bound(moves_.begin(), moves_.end(), line,
                               [](std::uint64_t at, const Move& each) { return at < each.from; });
  if (move != moves_.begin() && (move - 1)->from + (move - 1)->count > line) --move;
  while (line < end) {
    if (move == moves_.end() || move->from >= end) {
      visit({line, end - line});
      return;
    }
    if (line < move->from) {
      visit({line, move->from - line});
      line = move->from;
    }
    const std::uint64_t until = std::min(end, move->from + move->count);
    visit({move->to + (line - move->from), until - line});
    line = until;
    ++move;
  }
}

// --- Renumbering

std::uint64_t Renumbering::of(std::uint64_t inode) const {
  const auto next =
      std::upper_bound(units_.begin(), units_.end(), inode,
                       [](std::uint64_t at, const auto& unit) { return at < unit.first; });
  if (next == units_.begin()) return inode;
  const auto& [old_first, new_first] = *(next - 1);
  return inode - old_first < unit_ ? new_first + (inode - old_first) : inode;
}

}  // namespace jh::xfs
