#include "core/container/qcow2/references.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "core/container/qcow2/bitmaps.h"

namespace jh::qcow2 {

std::uint64_t References::at(std::uint64_t cluster) const {
  auto run = std::upper_bound(
      runs.begin(), runs.end(), cluster,
      [](std::uint64_t c, const CountedRange& candidate) { return c < candidate.first; });
  if (run == runs.begin()) return 0;
  --run;
  return cluster < run->first + run->count ? run->references : 0;
}

namespace {

enum class Use { header, refcounts, table, data, compressed, snapshots, bitmaps };

class Walk {
 public:
  Walk(Store& file, const Image& image, Findings& findings)
      : file_(file), image_(image), findings_(findings) {}

  /// `times`: how many name it.
  void use(std::uint64_t offset, std::uint64_t length, Use use, std::uint64_t times = 1) {
    if (length == 0) return;
    const std::uint64_t first = offset / image_.cluster();
    const std::uint64_t count = (checked_add(offset, length) - 1) / image_.cluster() - first + 1;
    if (!uses_.empty() && uses_.back().use == use && uses_.back().times == times &&
        uses_.back().first + uses_.back().count == first)
      uses_.back().count += count;
    else
      uses_.push_back({first, count, use, times});
  }

  void walk_active(std::uint64_t offset, const std::vector<std::uint64_t>& entries) {
    use(offset, entries.size() * 8, Use::table);
    std::set<std::uint64_t> walked;
    for_each_table(entries, [&](std::size_t i, std::uint64_t table) {
      use(table, image_.cluster(), Use::table);
      if (!walked.insert(table).second)
        found(fmt::format("the L2 table at {} is named twice", table));
      else
        walk_l2(i, table, 1);
    });
  }

  // Snapshots share tables, and the clusters in them count once for each that names the table: each
  // table is read once, however many do.
  void walk_snapshots() {
    use(image_.raw.snapshots_offset.value(), image_.snapshot_list_size, Use::snapshots);
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::uint64_t> lists;  // and who has them
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < image_.snapshot_tables.size(); ++i) {
      const L1Place& place = image_.snapshot_tables[i];
      if (place.entries * 8 > max_l1_bytes || place.offset % image_.cluster() != 0 ||
          checked_add(place.offset, place.entries * 8) > file_.size()) {
        found(fmt::format("the L1 table of snapshot {} cannot be where it should",
                          image_.snapshots[i].id));
        continue;
      }
      if (++lists[{place.offset, place.entries}] == 1) bytes += place.entries * 8;
    }
    // Each has its own clusters in a sound image.
    if (bytes > file_.size()) {
      found("the L1 tables of the snapshots lie over each other");
      return;
    }
    std::map<std::pair<std::uint64_t, std::size_t>, std::uint64_t> tables;
    for (const auto& [place, times] : lists) {
      const auto& [offset, count] = place;
      use(offset, count * 8, Use::table, times);
      const Buffer raw = read_buffer(file_, offset, static_cast<std::size_t>(count * 8));
      std::vector<std::uint64_t> entries;
      for (std::uint64_t e = 0; e < count; ++e)
        entries.push_back(parse_as<Be64>(raw, e * 8).value());
      for_each_table(entries, [&, named = times](std::size_t i, std::uint64_t table) {
        tables[{table, i}] += named;
      });
    }
    // A table that is named for several places of the disk is damage, and read for each of them.
    std::uint64_t read = 0;
    for (const auto& [table, times] : tables) {
      use(table.first, image_.cluster(), Use::table, times);
      if (++read > file_.size() / image_.cluster() + 1) {
        found("the snapshots name more tables than the file can hold");
        return;
      }
      walk_l2(table.second, table.first, times);
    }
  }

  void walk_bitmaps() {
    if (!keeps_bitmaps(image_)) return;
    const std::uint64_t start = image_.bitmaps->directory_offset.value();
    const std::uint64_t size = image_.bitmaps->directory_size.value();
    if (checked_add(start, size) <= file_.size()) use(start, size, Use::bitmaps);
    const char* wrong = for_each_bitmap(
        file_, image_, [&](std::uint64_t, const BitmapEntry& entry) { walk_bitmap(entry); });
    if (wrong != nullptr) found(wrong);
  }

  void walk_refcounts(const std::vector<std::uint64_t>& table) {
    use(image_.raw.refcount_table_offset.value(),
        std::uint64_t{image_.raw.refcount_table_clusters.value()} * image_.cluster(),
        Use::refcounts);
    for (const std::uint64_t block : table)
      if (block != 0) use(block, image_.cluster(), Use::refcounts);
  }

  References result() {
    struct Edge {
      std::uint64_t at;
      std::int64_t change;
      bool exclusive;  // nothing else may lie here
    };
    std::vector<Edge> edges;
    edges.reserve(uses_.size() * 2);
    for (const Used& used : uses_) {
      const bool exclusive = used.use == Use::header || used.use == Use::refcounts ||
                             used.use == Use::snapshots || used.use == Use::bitmaps;
      const auto times = static_cast<std::int64_t>(used.times);
      edges.push_back({used.first, times, exclusive});
      edges.push_back({used.first + used.count, -times, exclusive});
    }
    uses_ = {};
    std::sort(edges.begin(), edges.end(), [](const Edge& a, const Edge& b) { return a.at < b.at; });
    References references;
    std::uint64_t depth = 0;
    std::uint64_t exclusive = 0;
    for (std::size_t i = 0; i < edges.size();) {
      const std::uint64_t at = edges[i].at;
      for (; i < edges.size() && edges[i].at == at; ++i) {
        depth += static_cast<std::uint64_t>(edges[i].change);
        if (edges[i].exclusive) exclusive = edges[i].change > 0 ? exclusive + 1 : exclusive - 1;
      }
      if (depth == 0 || i == edges.size()) continue;
      if (exclusive != 0 && depth > 1)
        found(
            fmt::format("cluster {} holds part of the image's own tables and something else", at));
      references.runs.push_back({at, edges[i].at - at, depth});
    }
    return references;
  }

 private:
  struct Used {
    std::uint64_t first;
    std::uint64_t count;
    Use use;
    std::uint64_t times;
  };

  // Calls visit(number, place) for the tables that a list names, as far as they can be there.
  template <class Visit>
  void for_each_table(const std::vector<std::uint64_t>& entries, Visit visit) {
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const std::uint64_t table = entries[i] & offset_mask;
      if (table == 0) continue;
      if (table % image_.cluster() != 0 || table + image_.cluster() > file_.size())
        found(fmt::format("L2 table {} lies at {}, where no cluster can be", i, table));
      else
        visit(i, table);
    }
  }

  void found(const std::string& what) { findings_.add(file_.name() + ", qcow2", what); }

  void walk_l2(std::size_t index, std::uint64_t table, std::uint64_t times) {
    // Tables in holes of the file cost nothing, however many there are.
    if (const Range run = file_.map(table, image_.cluster());
        run.zero && run.length == image_.cluster())
      return;
    const Buffer raw = read_buffer(file_, table, static_cast<std::size_t>(image_.cluster()));
    const bool external = image_.has(incompatible::external_data);
    for (std::uint64_t i = 0; i < image_.entries_per_table(); ++i) {
      const std::uint64_t entry = parse_as<Be64>(raw, i * image_.entry_size()).value();
      const std::uint64_t cluster = index * image_.entries_per_table() + i;
      if (image_.entry_size() == 16) {
        const std::uint64_t bits = parse_as<Be64>(raw, i * 16 + 8).value();
        if ((bits >> subclusters & bits & 0xffffffff) != 0)
          found(fmt::format("parts of cluster {} are both there and zero", cluster));
      }
      if ((entry & compressed_bit) != 0) {
        const CompressedPlace compressed = compressed_place(entry, image_.cluster_bits);
        if (compressed.offset >= file_.size() || external)
          found(fmt::format("packed cluster {} of the disk lies where none can be", cluster));
        else
          use(compressed.offset, compressed.length, Use::compressed, times);
        continue;
      }
      const std::uint64_t at = entry & offset_mask;
      if (at == 0 || external) continue;
      if (at % image_.cluster() != 0 || at >= file_.size())
        found(fmt::format("cluster {} of the disk lies at {}, where none can be", cluster, at));
      else
        use(at, image_.cluster(), Use::data, times);
    }
  }

  void walk_bitmap(const BitmapEntry& entry) {
    const std::uint64_t at = entry.table_offset.value();
    const std::uint64_t size = std::uint64_t{entry.table_size.value()} * 8;
    if (at % image_.cluster() != 0 || checked_add(at, size) > file_.size()) {
      found("a bitmap's table cannot be where it should");
      return;
    }
    use(at, size, Use::bitmaps);
    constexpr std::uint64_t piece = 65536;
    for (std::uint64_t done = 0; done < size; done += piece) {
      const Buffer raw =
          read_buffer(file_, at + done, static_cast<std::size_t>(std::min(piece, size - done)));
      for (std::size_t i = 0; i < raw.size(); i += 8) {
        const std::uint64_t place = parse_as<Be64>(raw, i).value() & offset_mask;
        if (place != 0) use(place, image_.cluster(), Use::bitmaps);
      }
    }
  }

  Store& file_;
  const Image& image_;
  Findings& findings_;
  std::vector<Used> uses_;
};

}  // namespace

References find_references(Store& file, const Image& image,
                           const std::vector<std::uint64_t>& active,
                           const std::vector<std::uint64_t>& refcount_table, Findings& findings) {
  Walk walk(file, image, findings);
  walk.use(0, image.cluster(), Use::header);
  walk.walk_refcounts(refcount_table);
  walk.walk_active(image.raw.l1_table_offset.value(), active);
  walk.walk_snapshots();
  walk.walk_bitmaps();
  if (image.encryption && image.encryption->length.value() != 0)
    walk.use(image.encryption->offset.value(), image.encryption->length.value(), Use::header);
  return walk.result();
}

}  // namespace jh::qcow2
