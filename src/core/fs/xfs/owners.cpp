#include "core/fs/xfs/owners.h"

#include <algorithm>
#include <tuple>

namespace jh::xfs {
namespace {

constexpr std::uint64_t all_flags = of_attributes | of_extent_tree | not_written;

std::uint64_t start_of(const ReverseMapping& each) { return each.start.value(); }
std::uint64_t end_of(const ReverseMapping& each) {
  return std::uint64_t{each.start.value()} + each.count.value();
}
bool in_file(const ReverseMapping& each) {
  return static_cast<std::int64_t>(each.owner.value()) > 0 &&
         (each.offset.value() & of_extent_tree) == 0;
}

}  // namespace

void sort_and_join(std::vector<ReverseMapping>& all) {
  const auto key = [](const ReverseMapping& each) {
    return std::tuple(each.start.value(), each.owner.value(), each.offset.value() & ~not_written);
  };
  std::sort(all.begin(), all.end(),
            [&](const ReverseMapping& a, const ReverseMapping& b) { return key(a) < key(b); });
  std::vector<ReverseMapping> out;
  // The last record of each owner that could go on; owners that share blocks lie in between.
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> last;
  for (const ReverseMapping& each : all) {
    const std::uint64_t flags = each.offset.value() & all_flags;
    const auto [known, fresh] = last.try_emplace({each.owner.value(), flags}, out.size());
    if (!fresh) {
      ReverseMapping& before = out[known->second];
      const bool follows =
          end_of(before) == start_of(each) &&
          (!in_file(each) || (before.offset.value() & ~all_flags) + before.count.value() ==
                                 (each.offset.value() & ~all_flags));
      if (follows) {
        before.count = before.count.value() + each.count.value();
        continue;
      }
      known->second = out.size();
    }
    out.push_back(each);
  }
  all = std::move(out);
}

void add_without(const ReverseMapping& mapping, const Ranges& freed,
                 std::vector<ReverseMapping>& out) {
  std::uint64_t at = start_of(mapping);
  const auto keep = [&](std::uint64_t from, std::uint64_t to) {
    if (from >= to) return;
    ReverseMapping part = mapping;
    part.start = static_cast<std::uint32_t>(from);
    part.count = static_cast<std::uint32_t>(to - from);
    if (in_file(mapping)) part.offset = mapping.offset.value() + (from - start_of(mapping));
    out.push_back(part);
  };
  for_each_inside(freed, start_of(mapping), end_of(mapping),
                  [&](std::uint64_t from, std::uint64_t to) {
                    keep(at, from);
                    at = to;
                  });
  keep(at, end_of(mapping));
}

SharedByGroup shared_after(Store& place, const Geometry& geometry, const Cut& cut,
                           const Moves& moves) {
  constexpr std::uint32_t staging = 1U << 31;
  SharedByGroup out;
  if (!geometry.has(ro_compatible::shared_extents)) return out;
  const Lines lines(geometry);
  const auto add_places = [&](const Blocks& part, const Be32& references) {
    moves.for_each_place(part.line, part.count, [&](Blocks to) {
      if (cut.leaves(to.line)) corrupt("shared blocks belong to nobody");
      out[lines.group(to.line)].push_back(
          {Be32(static_cast<std::uint32_t>(to.line % geometry.group_blocks())),
           Be32(static_cast<std::uint32_t>(to.count)), references});
    });
  };
  for (std::uint32_t number = 0; number < geometry.groups(); ++number) {
    const bool stays = number + 1 < cut.groups;
    if (stays && (cut.log.count == 0 || lines.group(cut.log.line) != number)) continue;
    Group(place, geometry, number)
        .walk(Tree::shared, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
          for (std::size_t i = 0; i < records; ++i) {
            const auto extent = parse_as<SharedExtent>(data, i * sizeof(SharedExtent));
            if ((extent.start.value() & staging) != 0) continue;
            cut.for_each_part({lines.line(number, extent.start.value()), extent.count.value()},
                              [&](const Blocks& part, bool leaves) {
                                if (leaves) add_places(part, extent.references);
                              });
          }
        });
  }
  return out;
}

}  // namespace jh::xfs
