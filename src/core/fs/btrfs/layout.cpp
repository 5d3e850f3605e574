#include "core/fs/btrfs/layout.h"

#include <algorithm>
#include <set>

#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

// Where the guest's allocator begins a copy of a chunk.
constexpr std::uint64_t stripe_unit = 64 << 10;
// What its metadata is left to work with when one of its chunks goes.
constexpr std::uint64_t least_free_metadata = 16 << 20;

}  // namespace

Layout::Layout(const Volume& volume) : volume_(volume), sector_(volume.sector_size()) {
  const auto roots = all_roots(volume);
  // Where free space is kept in files of the guest's own, its kernel would have to find it anew.
  // And of a subvolume that is being deleted nobody but its guest knows what is still its own.
  may_empty_ = volume.has(ro_compatible::free_space_tree) &&
               volume.has(ro_compatible::free_space_valid) &&
               std::none_of(roots.begin(), roots.end(),
                            [](const ListedRoot& listed) { return listed.dropping; });
  for (const auto& [logical, chunk] : volume.chunks()) {
    if (chunk.length / sector_ > UINT32_MAX)
      unsupported("one of its chunks is larger than 16 TiB", "btrfs", "shrink it inside the guest");
    chunks_[logical].chunk = chunk;
  }
  for_each_extent(volume, 0, UINT64_MAX, [&](const Extent& extent) {
    const std::uint64_t start = volume.chunk_of(extent.start, extent.length).first;
    Held& held = chunks_.at(start);
    const HeldExtent piece{static_cast<std::uint32_t>((extent.start - start) / sector_),
                           static_cast<std::uint32_t>(extent.length / sector_)};
    held.pieces.push_back(piece);
    held.used += piece.count;
  });
}

// One way, tried out.
class Layout::Trial {
 public:
  Trial(const Layout& layout, std::uint64_t size) : layout_(layout) {
    plan_.size = size;
    for (const auto& [logical, held] : layout.chunks_) left_.insert(logical);
  }

  std::optional<Shrinking> run() {
    while (!place_copies())
      if (!empty_one()) return std::nullopt;
    std::sort(plan_.extents.begin(), plan_.extents.end(),
              [](const ExtentMove& a, const ExtentMove& b) { return a.from < b.from; });
    for (const ExtentMove& move : plan_.extents) plan_.to_move += move.length;
    for (const ChunkMove& move : plan_.copies)
      plan_.to_move += held(move.chunk).used * layout_.sector_ + taken_[move.chunk];
    return plan_;
  }

 private:
  const Held& held(std::uint64_t logical) const { return layout_.chunks_.at(logical); }

  // Copies behind the end into gaps: the largest first, each where it leaves the least over.
  bool place_copies() {
    plan_.copies.clear();
    Ranges room;
    add_range(room, first_usable, plan_.size);
    for (const std::uint64_t logical : left_) {
      const Chunk& chunk = held(logical).chunk;
      for (std::size_t i = 0; i < chunk.copies.size(); ++i) {
        const std::uint64_t from = chunk.copies[i];
        if (from + chunk.length <= plan_.size)
          remove_range(room, from, from + chunk.length);
        else
          plan_.copies.push_back({logical, i, from, 0, chunk.length});
      }
    }
    std::stable_sort(plan_.copies.begin(), plan_.copies.end(),
                     [](const ChunkMove& a, const ChunkMove& b) { return a.length > b.length; });
    for (ChunkMove& move : plan_.copies) {
      const auto to = place(room, move);
      if (!to) return false;
      move.to = *to;
      remove_range(room, *to, *to + move.length);
    }
    return true;
  }

  std::optional<std::uint64_t> place(const Ranges& room, const ChunkMove& move) const {
    std::optional<std::uint64_t> best;
    std::uint64_t least = UINT64_MAX;
    for (const auto& [from, end] : room) {
      std::uint64_t at = round_up(from, stripe_unit);
      // Past a superblock that would lie in what is used, where that is still within.
      for (const std::uint64_t super : superblock_places)
        if (super + superblock_room > at && meets_superblock(move.chunk, at, super))
          at = super + superblock_room;
      if (at >= end || end - at < move.length) continue;
      if (end - from < least) {
        least = end - from;
        best = at;
      }
    }
    return best;
  }

  // A copy at `to` would have something in use where this superblock lies.
  bool meets_superblock(std::uint64_t logical, std::uint64_t to, std::uint64_t super) const {
    const std::uint64_t end = super + superblock_room;
    if (end <= to || super >= to + held(logical).chunk.length) return false;
    const std::uint64_t from = super > to ? super - to : 0;
    const auto reaches_in = [&](std::uint64_t start, std::uint64_t length) {
      return start < end - to && start + length > from;
    };
    const std::uint64_t sector = layout_.sector_;
    const auto& pieces = held(logical).pieces;
    return std::any_of(pieces.begin(), pieces.end(),
                       [&](const HeldExtent& piece) {
                         return reaches_in(piece.start * sector, piece.count * sector);
                       }) ||
           std::any_of(plan_.extents.begin(), plan_.extents.end(), [&](const ExtentMove& move) {
             return move.to >= logical && move.to < logical + held(logical).chunk.length &&
                    reaches_in(move.to - logical, move.length);
           });
  }

  // The one that is least work, and lies behind the end if possible.
  bool empty_one() {
    if (!layout_.may_empty_) return false;
    std::vector<std::uint64_t> candidates;
    for (const std::uint64_t logical : left_)
      if (!kept_.contains(logical) && taken_[logical] == 0 &&
          (held(logical).chunk.type & chunk_type::system) == 0)
        candidates.push_back(logical);
    const auto rank = [&](std::uint64_t logical) {
      const Chunk& chunk = held(logical).chunk;
      const bool behind =
          std::any_of(chunk.copies.begin(), chunk.copies.end(),
                      [&](std::uint64_t copy) { return copy + chunk.length > plan_.size; });
      return std::pair(held(logical).used, !behind);
    };
    std::sort(candidates.begin(), candidates.end(),
              [&](std::uint64_t a, std::uint64_t b) { return rank(a) < rank(b); });
    for (const std::uint64_t logical : candidates) {
      if (empty(logical)) return true;
      kept_.insert(logical);
    }
    return false;
  }

  bool empty(std::uint64_t logical) {
    const Held& leaving = held(logical);
    std::uint64_t free = 0;
    std::uint64_t used = leaving.used * layout_.sector_;
    std::vector<std::uint64_t> others;
    for (const std::uint64_t other : left_) {
      if (other == logical || held(other).chunk.type != leaving.chunk.type) continue;
      others.push_back(other);
      const std::uint64_t there = held(other).used * layout_.sector_ + taken_[other];
      free += held(other).chunk.length - there;
      used += there;
    }
    const bool metadata = (leaving.chunk.type & chunk_type::metadata) != 0;
    const std::uint64_t margin = metadata ? least_free_metadata + used / 4 : 0;
    // One of each kind stays, whatever is in it.
    if (others.empty() || free < leaving.used * layout_.sector_ + margin) return false;
    std::map<std::uint64_t, Ranges> room;
    for (const std::uint64_t other : others) room[other] = free_of(other);
    std::vector<ExtentMove> moves;
    for (const HeldExtent& piece : leaving.pieces) {
      const std::uint64_t length = std::uint64_t{piece.count} * layout_.sector_;
      const auto to = find(room, length, metadata);
      if (!to) return false;
      moves.push_back({logical + std::uint64_t{piece.start} * layout_.sector_, *to, length});
    }
    for (const ExtentMove& move : moves)
      taken_[layout_.volume_.chunk_of(move.to, move.length).first] += move.length;
    plan_.extents.insert(plan_.extents.end(), moves.begin(), moves.end());
    plan_.emptied.push_back(logical);
    left_.erase(logical);
    return true;
  }

  // What of a chunk is free, by logical addresses, and is not where a superblock lies.
  Ranges free_of(std::uint64_t logical) const {
    const Held& there = held(logical);
    Ranges free;
    add_range(free, logical, logical + there.chunk.length);
    for (const HeldExtent& piece : there.pieces) {
      const std::uint64_t start = logical + std::uint64_t{piece.start} * layout_.sector_;
      remove_range(free, start, start + std::uint64_t{piece.count} * layout_.sector_);
    }
    for (const ExtentMove& move : plan_.extents) remove_range(free, move.to, move.to + move.length);
    leave_superblocks(free, logical, there.chunk);
    return free;
  }

  // From the beginning of what is free, so that it does not fall into more pieces.
  std::optional<std::uint64_t> find(std::map<std::uint64_t, Ranges>& room, std::uint64_t length,
                                    bool tree_block) const {
    for (auto& [logical, free] : room)
      for (const auto& [from, end] : free) {
        // Tree blocks lie on multiples of their size.
        const std::uint64_t at =
            tree_block && length == layout_.volume_.node_size() ? round_up(from, length) : from;
        if (at >= end || end - at < length) continue;
        remove_range(free, at, at + length);
        return at;
      }
    return std::nullopt;
  }

  const Layout& layout_;
  Shrinking plan_;
  std::set<std::uint64_t> left_;                  // chunks that stay
  std::set<std::uint64_t> kept_;                  // that cannot be emptied
  std::map<std::uint64_t, std::uint64_t> taken_;  // bytes that came into a chunk
};

std::optional<Shrinking> Layout::plan(std::uint64_t size) const { return Trial(*this, size).run(); }

std::uint64_t Layout::least() const {
  std::uint64_t high = volume_.size();
  std::uint64_t low = std::min(first_usable, high);
  while (low < high) {
    const std::uint64_t middle = std::max(low, round_down(low + (high - low) / 2, stripe_unit));
    if (plan(middle))
      high = middle;
    else
      low = std::min(middle + stripe_unit, high);
  }
  return high;
}

}  // namespace jh::btrfs
