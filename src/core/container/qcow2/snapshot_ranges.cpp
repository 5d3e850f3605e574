#include "core/container/qcow2/snapshot_ranges.h"

#include <fmt/format.h>

#include <map>
#include <set>

namespace jh::qcow2 {
namespace {

[[noreturn]] void corrupt_table(Store& file, const std::string& what) {
  damaged("a snapshot is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

}  // namespace

void for_each_range_of(Store& file, const Image& image, std::size_t snapshot,
                       const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  const L1Place& place = image.snapshot_tables.at(snapshot);
  const std::uint64_t bytes = checked_mul(place.entries, 8);
  if (bytes > max_l1_bytes || checked_add(place.offset, bytes) > file.size())
    corrupt_table(file,
                  fmt::format("the L1 table of snapshot {}", image.snapshots.at(snapshot).id));
  visit(place.offset, bytes);
  const Buffer l1 = read_buffer(file, place.offset, static_cast<std::size_t>(bytes));
  std::set<std::uint64_t>
      walked;  // a table that is named twice is damage, which the audit tells of
  for (std::uint64_t i = 0; i < place.entries; ++i) {
    const std::uint64_t table = parse_as<Be64>(l1, i * 8).value() & offset_mask;
    if (table == 0 || !walked.insert(table).second) continue;
    if (checked_add(table, image.cluster()) > file.size())
      corrupt_table(file, fmt::format("an L2 table at {}", table));
    visit(table, image.cluster());
    const Buffer l2 = read_buffer(file, table, static_cast<std::size_t>(image.cluster()));
    for (std::uint64_t e = 0; e < image.entries_per_table(); ++e) {
      const std::uint64_t entry = parse_as<Be64>(l2, e * image.entry_size()).value();
      if ((entry & compressed_bit) != 0) {
        const CompressedPlace compressed = compressed_place(entry, image.cluster_bits);
        visit(compressed.offset, compressed.length);
      } else if ((entry & offset_mask) != 0) {
        visit(entry & offset_mask, image.cluster());
      }
    }
  }
}

std::uint64_t kept_alone(Store& file, const Image& image, Refcounts& counts, std::size_t snapshot) {
  // A cluster of packed pieces may have several references from here.
  std::map<std::uint64_t, std::uint64_t> from_here;
  std::uint64_t alone = 0;
  for_each_range_of(file, image, snapshot, [&](std::uint64_t offset, std::uint64_t length) {
    const std::uint64_t first = offset / image.cluster();
    const std::uint64_t last = (offset + std::max<std::uint64_t>(length, 1) - 1) / image.cluster();
    for (std::uint64_t c = first; c <= last; ++c) {
      const std::uint64_t count = counts.count(c);
      if (count == 1)
        ++alone;
      else if (count > 1)
        ++from_here[c];
    }
  });
  for (const auto& [cluster, references] : from_here)
    alone += counts.count(cluster) == references ? 1 : 0;
  return alone * image.cluster();
}

}  // namespace jh::qcow2
