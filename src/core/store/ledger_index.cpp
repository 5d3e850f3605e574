#include "core/store/ledger_index.h"

#include <fmt/format.h>

namespace jh {

using ledger::RecordKind;

namespace {

// What was written again counts as it was written last. Stretches begin at sectors, and each sector
// has four bytes of the checksums at `at`, or all of its own.
void overlay(LedgerRanges& all, std::uint64_t offset, LedgerRange fresh) {
  const std::uint64_t end = offset + fresh.length;
  auto found = all.upper_bound(offset);
  if (found != all.begin() && std::prev(found)->first + std::prev(found)->second.length > offset)
    --found;
  while (found != all.end() && found->first < end) {
    const auto [start, old] = *found;
    found = all.erase(found);
    if (start < offset) all[start] = {offset - start, old.at, old.shared};
    if (start + old.length > end) {
      const std::uint64_t passed =
          old.shared ? end - start : (end - start) / ledger::sector_size * sizeof(Le32);
      all[end] = {start + old.length - end, old.at + passed, old.shared};
    }
  }
  all[offset] = fresh;
}

template <class Map, class Value>
void add_disjoint(Map& all, std::uint64_t offset, Value value, const Ledger& ledger) {
  const auto next = all.lower_bound(offset);
  const bool meets_next = next != all.end() && next->first < offset + value.length;
  const bool meets_last =
      next != all.begin() && std::prev(next)->first + std::prev(next)->second.length > offset;
  if (meets_next || meets_last)
    damaged(fmt::format("two records of the ledger speak of the bytes at {}", offset),
            ledger.path(), "the image was not touched; keep both files");
  all.emplace_hint(next, offset, value);
}

// The last byte of a map of stretches.
template <class Map>
std::uint64_t end_of(const Map& all) {
  return all.empty() ? 0 : all.rbegin()->first + all.rbegin()->second.length;
}

// What is said of an image lies in the image.
void check_inside(const LedgerIndex& index, const LedgerIndex::Image& image, const Ledger& ledger) {
  const std::uint64_t longest = std::max({image.old_size, image.new_size, image.size_at_commit});
  const std::uint64_t old_end = std::max(
      {end_of(image.kept), end_of(image.cut), end_of(image.checksums), end_of(image.moved)});
  // Of an unfinished change the new size is not known yet.
  if (ledger.state() == Ledger::State::opened) return;
  const std::uint64_t new_end = image.after.empty() ? 0 : image.after.rbegin()->second;
  bool moved_inside = true;
  for (const auto& [start, moved] : image.moved)
    moved_inside &= start >= image.new_size &&
                    checked_add(moved.at, moved.length) <= index.images[moved.image].new_size;
  const bool behind_the_end =
      (image.cut.empty() || image.cut.begin()->first >= image.new_size) &&
      (image.checksums.empty() || image.checksums.begin()->first >= image.new_size);
  if (longest > static_cast<std::uint64_t>(INT64_MAX) || old_end > image.old_size ||
      new_end > image.new_size || end_of(image.wrote) > longest || !moved_inside || !behind_the_end)
    damaged("the ledger speaks of bytes that the image does not have", ledger.path(),
            "the image was not touched; keep both files");
}

}  // namespace

LedgerIndex index_of(Ledger& ledger) {
  LedgerIndex index;
  for (const Ledger::Image& image : ledger.images())
    index.images.push_back(
        {image.old_size, image.old_size, image.old_size, {}, {}, {}, {}, {}, {}});
  ledger.for_each([&](const Ledger::Entry& entry) {
    LedgerIndex::Image& image = index.images[entry.image];
    const std::uint64_t at = entry.zero ? 0 : entry.at;
    const std::uint64_t end = entry.offset + entry.length;
    switch (entry.kind) {
      case RecordKind::before_direct:
        add_disjoint(image.kept, entry.offset, LedgerRange{entry.length, at, entry.shared}, ledger);
        break;
      case RecordKind::after:
        add_range(image.after, entry.offset, end);
        break;
      case RecordKind::wrote:
        if (entry.offset % ledger::sector_size != 0)
          damaged("a sum in the ledger does not begin at a sector", ledger.path());
        overlay(image.wrote, entry.offset, {entry.length, at, entry.shared});
        break;
      case RecordKind::new_size:
        image.new_size = entry.offset;
        image.size_at_commit = entry.length;
        break;
      case RecordKind::cut:
        add_disjoint(image.cut, entry.offset, LedgerRange{entry.length, at, entry.shared}, ledger);
        break;
      case RecordKind::cut_sum:
        add_disjoint(image.checksums, entry.offset,
                     LedgerIndex::Checksum{entry.length, parse_as<Le32>(entry.payload, 0).value()},
                     ledger);
        break;
      case RecordKind::moved: {
        const auto place = parse_as<ledger::MovedTo>(entry.payload, 0);
        add_disjoint(image.moved, entry.offset,
                     LedgerIndex::Moved{entry.length, place.image.value(), place.offset.value(),
                                        place.crc.value()},
                     ledger);
        break;
      }
      case RecordKind::assigned:
        index.assigned_ranges.push_back(
            {entry.image, entry.offset, entry.length, entry.zero,
             entry.zero ? 0 : parse_as<Le32>(entry.payload, 0).value()});
        break;
      case RecordKind::before:
      case RecordKind::spilled:
      case RecordKind::front:
        break;
    }
  });
  for (const LedgerIndex::Image& image : index.images) check_inside(index, image, ledger);
  return index;
}

}  // namespace jh
