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

class SnapshotTables {
 public:
  SnapshotTables(Store& file, const Image& image) : file_(file), image_(image) {}

  // Calls visit(table) for what an L1 table names; nothing when it was read before.
  template <class Visit>
  void for_each_table(std::size_t snapshot, Visit visit) {
    const L1Place& place = image_.snapshot_tables.at(snapshot);
    const std::uint64_t bytes = checked_mul(place.entries, 8);
    if (bytes > max_l1_bytes || checked_add(place.offset, bytes) > file_.size())
      corrupt_table(file_, fmt::format("the L1 table of {}", image_.snapshots.at(snapshot).id));
    if (!lists_.insert({place.offset, place.entries}).second) return;
    // Each has its own clusters in a sound image.
    if ((read_ += bytes) > file_.size()) corrupt_table(file_, "its L1 tables lie over each other");
    const Buffer l1 = read_buffer(file_, place.offset, static_cast<std::size_t>(bytes));
    for (std::uint64_t i = 0; i < place.entries; ++i)
      if (const std::uint64_t table = parse_as<Be64>(l1, i * 8).value() & offset_mask; table != 0)
        visit(table);
  }

  // Calls visit(offset, length) for what an L2 table names; nothing when it was read before.
  template <class Visit>
  void for_each_cluster(std::uint64_t table, Visit visit) {
    if (!tables_.insert(table).second) return;
    if (checked_add(table, image_.cluster()) > file_.size())
      corrupt_table(file_, fmt::format("an L2 table at {}", table));
    const Buffer l2 = read_buffer(file_, table, static_cast<std::size_t>(image_.cluster()));
    for (std::uint64_t e = 0; e < image_.entries_per_table(); ++e) {
      const std::uint64_t entry = parse_as<Be64>(l2, e * image_.entry_size()).value();
      if ((entry & compressed_bit) != 0) {
        const CompressedPlace compressed = compressed_place(entry, image_.cluster_bits);
        visit(compressed.offset, compressed.length);
      } else if ((entry & offset_mask) != 0) {
        visit(entry & offset_mask, image_.cluster());
      }
    }
  }
  bool was_read(std::uint64_t table) const { return tables_.contains(table); }

 private:
  Store& file_;
  const Image& image_;
  std::set<std::pair<std::uint64_t, std::uint64_t>> lists_;
  std::set<std::uint64_t> tables_;
  std::uint64_t read_ = 0;
};

}  // namespace

void for_each_snapshot_range(Store& file, const Image& image,
                             const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  SnapshotTables walk(file, image);
  for (std::size_t i = 0; i < image.snapshots.size(); ++i) {
    visit(image.snapshot_tables[i].offset, image.snapshot_tables[i].entries * 8);
    walk.for_each_table(i, [&](std::uint64_t table) {
      visit(table, image.cluster());
      walk.for_each_cluster(table, visit);
    });
  }
}

std::vector<std::uint64_t> kept_by_snapshots(Store& file, const Image& image, Refcounts& counts) {
  SnapshotTables walk(file, image);
  std::vector<std::uint64_t> kept;
  for (std::size_t i = 0; i < image.snapshots.size(); ++i) {
    std::uint64_t alone = ceil_div(image.snapshot_tables[i].entries * 8, image.cluster());
    // A cluster of packed pieces may have several references from here.
    std::map<std::uint64_t, std::uint64_t> from_here;
    walk.for_each_table(i, [&](std::uint64_t table) {
      // What a table of two states names has two references as well.
      if (counts.count(table / image.cluster()) != 1 || walk.was_read(table)) return;
      ++alone;
      walk.for_each_cluster(table, [&](std::uint64_t offset, std::uint64_t length) {
        const std::uint64_t last = (checked_add(offset, length) - 1) / image.cluster();
        for (std::uint64_t c = offset / image.cluster(); c <= last; ++c) {
          const std::uint64_t count = counts.count(c);
          if (count == 1)
            ++alone;
          else if (count > 1 && ++from_here[c] == count)
            ++alone;
        }
      });
    });
    kept.push_back(alone * image.cluster());
  }
  return kept;
}

}  // namespace jh::qcow2
