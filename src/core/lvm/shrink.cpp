#include "core/lvm/shrink.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jh::lvm {
namespace {

Node& text_of(Node& group, const std::string& volume) {
  return *group.section("logical_volumes")->section(volume);
}

// Pieces of one segment, cut where moved extents begin and end.
std::vector<Segment> cut_segment(const Segment& segment, std::size_t number,
                                 const std::vector<ExtentMove>& moves) {
  std::set<std::uint64_t> cuts{0, segment.on_each()};
  for (const ExtentMove& move : moves)
    if (move.segment == number) {
      cuts.insert(move.inside);
      cuts.insert(move.inside + move.count);
    }
  std::vector<Segment> pieces;
  const std::uint64_t width = segment.stripes.size();
  for (auto cut = cuts.begin(); std::next(cut) != cuts.end(); ++cut) {
    Segment piece = segment;
    piece.start = segment.start + *cut * width;
    piece.count = (*std::next(cut) - *cut) * width;
    for (std::size_t i = 0; i < width; ++i) {
      piece.stripes[i].extent += *cut;
      for (const ExtentMove& move : moves)
        if (move.segment == number && move.stripe == i && *cut >= move.inside &&
            *cut < move.inside + move.count)
          piece.stripes[i] = {move.to.pv, move.to.extent + (*cut - move.inside)};
    }
    pieces.push_back(std::move(piece));
  }
  return pieces;
}

bool follows(const Segment& before, const Segment& after) {
  if (before.stripes.size() != after.stripes.size() || before.stripe_size != after.stripe_size)
    return false;
  for (std::size_t i = 0; i < before.stripes.size(); ++i)
    if (before.stripes[i].pv != after.stripes[i].pv ||
        before.stripes[i].extent + before.on_each() != after.stripes[i].extent)
      return false;
  return true;
}

// Takes free extents, run by run.
class Takers {
 public:
  Takers(const Group& group, std::size_t pv, std::uint64_t first,
         const std::vector<std::size_t>& leaving) {
    const auto add = [&](std::size_t from, std::uint64_t end) {
      for (ExtentRange run : group.free_runs(from)) {
        if (run.first >= end) continue;
        run.count = std::min(run.count, end - run.first);
        runs_.push_back(run);
      }
    };
    add(pv, first);
    for (std::size_t other = 0; other < group.pvs.size(); ++other)
      if (other != pv && group.pvs[other].takes_more() &&
          std::find(leaving.begin(), leaving.end(), other) == leaving.end())
        add(other, UINT64_MAX);
  }

  std::uint64_t left() const {
    std::uint64_t sum = 0;
    for (const ExtentRange& run : runs_) sum += run.count;
    return sum;
  }

  /// At most `count` in a row; where `avoid` does not already hold another stripe, if possible.
  ExtentRange take(std::uint64_t count, const std::set<std::size_t>& avoid) {
    ExtentRange* best = nullptr;
    const auto rank = [&](const ExtentRange& run) {
      return std::tuple(!avoid.contains(run.pv), run.count >= count);
    };
    for (ExtentRange& run : runs_)
      if (run.count != 0 && (best == nullptr || rank(run) > rank(*best))) best = &run;
    if (best == nullptr) return {};
    const ExtentRange taken{best->pv, best->first, std::min(count, best->count)};
    best->first += taken.count;
    best->count -= taken.count;
    return taken;
  }

 private:
  std::vector<ExtentRange> runs_;
};

}  // namespace

std::uint64_t whole_size(const Volume& volume, std::uint64_t extents) {
  for (const Segment& segment : volume.segments)
    if (extents > segment.start && extents <= segment.start + segment.count)
      return segment.start +
             std::min(segment.count, round_up(extents - segment.start,
                                              std::max<std::uint64_t>(segment.stripes.size(), 1)));
  return extents;
}

void reduce_volume(Group& group, const std::string& name, std::uint64_t extents) {
  const std::vector<Segment> segments = group.find(name)->segments;
  ensure(extents != 0, "a volume keeps an extent");
  group.edit([&](Node& node) {
    Node& text = text_of(node, name);
    std::uint64_t kept = 0;
    for (const Segment& segment : segments) {
      if (segment.start >= extents) {
        text.remove_section(segment.name);
        continue;
      }
      ++kept;
      const std::uint64_t count = std::min(segment.count, extents - segment.start);
      if (count != segment.count) text.section(segment.name)->set("extent_count", Value::of(count));
    }
    text.set("segment_count", Value::of(kept));
  });
}

std::vector<ExtentMove> plan_moves(const Group& group, std::size_t pv, std::uint64_t first,
                                   const std::vector<std::size_t>& leaving) {
  Takers takers(group, pv, first, leaving);
  std::vector<ExtentMove> moves;
  std::uint64_t needed = 0;
  for (const Holding& held : group.holdings(pv))
    if (held.first + held.count > first)
      needed += held.first + held.count - std::max(held.first, first);
  if (needed > takers.left())
    refuse(fmt::format("{} extents of {} are in the way, and only {} are free elsewhere in group "
                       "{}",
                       needed, group.pvs[pv].name, takers.left(), group.name),
           "LVM", "make a volume smaller too (--take), or ask for less");
  for (const Holding& held : group.holdings(pv)) {
    if (held.first + held.count <= first) continue;
    const Volume& volume = group.volumes[held.volume];
    if (held.segment == SIZE_MAX)
      unsupported(fmt::format("{}/{} is a {} volume, whose extents cannot be moved", group.name,
                              volume.name, volume.kind),
                  "LVM", "move it inside the guest first");
    const Segment& segment = volume.segments[held.segment];
    std::set<std::size_t> avoid;
    for (std::size_t i = 0; i < segment.stripes.size(); ++i)
      if (i != held.stripe) avoid.insert(segment.stripes[i].pv);
    for (std::uint64_t at = std::max(held.first, first); at < held.first + held.count;) {
      const ExtentRange run = takers.take(held.first + held.count - at, avoid);
      ensure(run.count != 0, "free extents were counted");
      moves.push_back({held.volume,
                       held.segment,
                       held.stripe,
                       at - held.first,
                       run.count,
                       {pv, at},
                       {run.pv, run.first}});
      at += run.count;
    }
  }
  return moves;
}

void plan_moved(Group& group, const std::vector<ExtentMove>& moves) {
  std::set<std::size_t> volumes;
  for (const ExtentMove& move : moves) volumes.insert(move.volume);
  const Group before = group;
  group.edit([&](Node& node) {
    for (const std::size_t number : volumes) {
      const Volume& volume = before.volumes[number];
      std::vector<ExtentMove> own;
      std::copy_if(moves.begin(), moves.end(), std::back_inserter(own),
                   [&](const ExtentMove& move) { return move.volume == number; });
      std::vector<Segment> pieces;
      for (std::size_t i = 0; i < volume.segments.size(); ++i)
        for (Segment& piece : cut_segment(volume.segments[i], i, own)) {
          if (!pieces.empty() && follows(pieces.back(), piece))
            pieces.back().count += piece.count;
          else
            pieces.push_back(std::move(piece));
        }
      Node& text = text_of(node, volume.name);
      // What a segment says besides is kept with each of its pieces.
      std::vector<Node> sections;
      for (const Segment& piece : pieces) sections.push_back(*text.section(piece.name));
      for (const Segment& segment : volume.segments) text.remove_section(segment.name);
      for (std::size_t i = 0; i < pieces.size(); ++i) {
        Node& section = text.add_section(fmt::format("segment{}", i + 1));
        section.children = sections[i].children;
        section.set("start_extent", Value::of(pieces[i].start));
        section.set("extent_count", Value::of(pieces[i].count));
        section.set("stripes", stripes_value(before, pieces[i].stripes));
      }
      text.set("segment_count", Value::of(std::uint64_t{pieces.size()}));
    }
  });
}

void move_extents(OpenGroup& open, const std::vector<ExtentMove>& moves, Progress& progress) {
  const Group& group = open.group;
  const auto offset = [&](const Stripe& place) {
    return checked_add(group.pvs[place.pv].data_start,
                       checked_mul(place.extent, group.extent_size));
  };
  std::uint64_t done = 0;
  for (const ExtentMove& move : moves) {
    Store& from = *open.members[move.from.pv]->store;
    Store& to = *open.members[move.to.pv]->store;
    const std::uint64_t length = move.count * group.extent_size;
    copy_in_pieces(from, offset(move.from), to, offset(move.to), length,
                   [&](std::uint64_t moved) { progress.advance(done + moved); });
    done += length;
  }
  plan_moved(open.group, moves);
}

void plan_removed(OpenGroup& open, std::size_t pv) {
  ensure(open.group.holdings(pv).empty(), "a physical volume that leaves is empty");
  const std::string name = open.group.pvs[pv].name;
  open.members.erase(open.members.begin() + static_cast<std::ptrdiff_t>(pv));
  open.group.edit([&](Node& node) { node.section("physical_volumes")->remove_section(name); });
}

void remove_device(OpenGroup& open, std::size_t pv) {
  const Member member = *open.members[pv];
  plan_removed(open, pv);
  Store& store = *member.store;
  store.write(0, Buffer(std::min<std::uint64_t>(store.size(), label_sectors * sector)));
  for (const MetadataArea& area : member.device.areas)
    store.write(area.place.offset, Buffer(sector));
}

}  // namespace jh::lvm
