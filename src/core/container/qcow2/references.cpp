#include "core/container/qcow2/references.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "core/base/ranges.h"
#include "core/container/qcow2/bitmaps.h"

namespace jh::qcow2 {

std::uint64_t References::in_chunk(const Chunk& chunk, std::uint64_t cluster) const {
  const std::uint16_t count = chunk.each.empty() ? chunk.all : chunk.each[cluster % per_chunk];
  return count == in_many ? many_.at(cluster) : count;
}

std::uint64_t References::at(std::uint64_t cluster) const {
  const auto chunk = chunks_.find(cluster / per_chunk);
  return chunk == chunks_.end() ? 0 : in_chunk(chunk->second, cluster);
}

void References::add(std::uint64_t first, std::uint64_t count, std::uint64_t times) {
  while (count != 0) {
    const std::uint64_t inside = first % per_chunk;
    const std::uint64_t step = std::min(count, per_chunk - inside);
    add_to(first / per_chunk, inside, inside + step, times);
    first += step;
    count -= step;
  }
}

void References::add_to(std::uint64_t number, std::uint64_t from, std::uint64_t to,
                        std::uint64_t times) {
  Chunk& chunk = chunks_[number];
  if (chunk.each.empty() && from == 0 && to == per_chunk && chunk.all + times < in_many) {
    chunk.all = static_cast<std::uint16_t>(chunk.all + times);
    return;
  }
  if (chunk.each.empty()) chunk.each.assign(per_chunk, chunk.all);
  for (std::uint64_t i = from; i < to; ++i) {
    const std::uint64_t cluster = number * per_chunk + i;
    const std::uint64_t now = checked_add(in_chunk(chunk, cluster), times);
    if (now >= in_many) many_[cluster] = now;
    chunk.each[i] = static_cast<std::uint16_t>(std::min<std::uint64_t>(now, in_many));
  }
  // The last of those that are named in a row.
  const std::uint16_t same = chunk.each.front();
  if (to == per_chunk && same != in_many &&
      std::all_of(chunk.each.begin(), chunk.each.end(),
                  [&](std::uint16_t count) { return count == same; })) {
    chunk.each = {};
    chunk.all = same;
  }
}

void References::for_each_run(
    const std::function<void(std::uint64_t, std::uint64_t, std::uint64_t)>& visit) const {
  for (const auto& [number, chunk] : chunks_) {
    const std::uint64_t base = number * per_chunk;
    std::uint64_t first = 0;
    while (first < per_chunk) {
      const std::uint64_t references = in_chunk(chunk, base + first);
      std::uint64_t end = chunk.each.empty() ? per_chunk : first + 1;
      while (end < per_chunk && in_chunk(chunk, base + end) == references) ++end;
      if (references != 0) visit(base + first, end - first, references);
      first = end;
    }
  }
}

namespace {

// Where nothing else may lie, and where several may: snapshots share.
enum class Use { alone, shared };

class Walk {
 public:
  Walk(Store& file, const Image& image, Findings& findings)
      : file_(file), image_(image), findings_(findings) {}

  /// `times`: how many name it.
  void use(std::uint64_t offset, std::uint64_t length, Use use, std::uint64_t times = 1) {
    if (length == 0) return;
    const std::uint64_t first = offset / image_.cluster();
    const std::uint64_t end = (checked_add(offset, length) - 1) / image_.cluster() + 1;
    // A packed cluster is counted in whole sectors, and may seem to go on behind the end.
    const std::uint64_t clusters = ceil_div(file_.size(), image_.cluster());
    if (end > clusters + 1) {
      found(fmt::format("what the image says of the clusters from {} on lies past the file's end",
                        first));
      return;
    }
    references_.add(first, end - first, times);
    if (use == Use::alone) add_range(alone_, first, end);
  }

  void walk_active(std::uint64_t offset, const std::vector<std::uint64_t>& entries) {
    use(offset, entries.size() * 8, Use::shared);
    std::set<std::uint64_t> walked;
    for_each_table(entries, [&](std::size_t i, std::uint64_t table) {
      use(table, image_.cluster(), Use::shared);
      if (!walked.insert(table).second)
        found(fmt::format("the L2 table at {} is named twice", table));
      else
        walk_l2(i, table, 1);
    });
  }

  // Snapshots share tables, and the clusters in them count once for each that names the table: each
  // table is read once, however many do.
  void walk_snapshots() {
    use(image_.raw.snapshots_offset.value(), image_.snapshot_list_size, Use::alone);
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
      use(offset, count * 8, Use::shared, times);
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
      use(table.first, image_.cluster(), Use::shared, times);
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
    if (checked_add(start, size) <= file_.size()) use(start, size, Use::alone);
    const char* wrong = for_each_bitmap(
        file_, image_, [&](std::uint64_t, const BitmapEntry& entry) { walk_bitmap(entry); });
    if (wrong != nullptr) found(wrong);
  }

  void walk_refcounts(const std::vector<std::uint64_t>& table) {
    use(image_.raw.refcount_table_offset.value(),
        std::uint64_t{image_.raw.refcount_table_clusters.value()} * image_.cluster(), Use::alone);
    for (const std::uint64_t block : table)
      if (block != 0) use(block, image_.cluster(), Use::alone);
  }

  References result() {
    for (const auto& [from, to] : alone_) {
      bool before = false;  // that was told of the one before, too
      for (std::uint64_t c = from; c < to; ++c) {
        const bool now = references_.at(c) > 1;
        if (now && !before)
          found(
              fmt::format("cluster {} holds part of the image's own tables and something else", c));
        before = now;
      }
    }
    return std::move(references_);
  }

 private:
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
          use(compressed.offset, compressed.length, Use::shared, times);
        continue;
      }
      const std::uint64_t at = entry & offset_mask;
      if (at == 0 || external) continue;
      if (at % image_.cluster() != 0 || at >= file_.size())
        found(fmt::format("cluster {} of the disk lies at {}, where none can be", cluster, at));
      else
        use(at, image_.cluster(), Use::shared, times);
    }
  }

  void walk_bitmap(const BitmapEntry& entry) {
    const std::uint64_t at = entry.table_offset.value();
    const std::uint64_t size = std::uint64_t{entry.table_size.value()} * 8;
    if (at % image_.cluster() != 0 || checked_add(at, size) > file_.size()) {
      found("a bitmap's table cannot be where it should");
      return;
    }
    use(at, size, Use::alone);
    constexpr std::uint64_t piece = 65536;
    for (std::uint64_t done = 0; done < size; done += piece) {
      const Buffer raw =
          read_buffer(file_, at + done, static_cast<std::size_t>(std::min(piece, size - done)));
      for (std::size_t i = 0; i < raw.size(); i += 8) {
        const std::uint64_t place = parse_as<Be64>(raw, i).value() & offset_mask;
        if (place != 0) use(place, image_.cluster(), Use::alone);
      }
    }
  }

  Store& file_;
  const Image& image_;
  Findings& findings_;
  References references_;
  Ranges alone_;  // clusters
};

}  // namespace

References find_references(Store& file, const Image& image,
                           const std::vector<std::uint64_t>& active,
                           const std::vector<std::uint64_t>& refcount_table, Findings& findings) {
  Walk walk(file, image, findings);
  walk.use(0, image.cluster(), Use::alone);
  walk.walk_refcounts(refcount_table);
  walk.walk_active(image.raw.l1_table_offset.value(), active);
  walk.walk_snapshots();
  walk.walk_bitmaps();
  if (image.encryption && image.encryption->length.value() != 0)
    walk.use(image.encryption->offset.value(), image.encryption->length.value(), Use::alone);
  return walk.result();
}

}  // namespace jh::qcow2
