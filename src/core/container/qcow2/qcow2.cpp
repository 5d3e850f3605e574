#include "core/container/qcow2/qcow2.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/compression.h"
#include "core/container/chain.h"
#include "core/container/qcow2/bitmaps.h"
#include "core/container/qcow2/snapshot_ranges.h"
#include "core/container/qcow2/snapshots.h"

namespace jh::qcow2 {

Qcow2Container::Qcow2Container(Store& file, FileResolver* resolver,
                               std::vector<std::string> children)
    : file_(file), image_(read_header(file)) {
  read_l1();
  if (image_.has(incompatible::external_data)) {
    if (resolver != nullptr) data_ = resolver->part(path_beside(file.name(), image_.data_file));
    if (data_ == nullptr)
      refuse("the file that holds the image's data is not there",
             path_beside(file.name(), image_.data_file), "put it back beside the image");
  }
  if (!image_.backing.empty())
    below_ = open_parent(file, resolver, {image_.backing}, std::move(children));
}

void Qcow2Container::read_l1() {
  const std::uint64_t entries = image_.raw.l1_size.value();
  const Buffer raw =
      read_buffer(file_, image_.raw.l1_table_offset.value(), static_cast<std::size_t>(entries * 8));
  l1_.clear();
  l1_.reserve(entries);
  for (std::uint64_t i = 0; i < entries; ++i) {
    const std::uint64_t entry = parse_as<Be64>(raw, i * 8).value();
    const std::uint64_t offset = entry & offset_mask;
    if (offset % image_.cluster() != 0 ||
        (offset != 0 && checked_add(offset, image_.cluster()) > file_.size()))
      damaged(fmt::format("L2 table {} lies at {}, which no cluster begins at", i, offset),
              file_.name(), "let the hypervisor check and repair the image first");
    l1_.push_back(entry);
  }
}

Refcounts& Qcow2Container::refcounts() {
  if (!refcounts_) refcounts_ = std::make_unique<Refcounts>(file_, image_);
  return *refcounts_;
}

Buffer* Qcow2Container::table(std::uint64_t index) {
  const std::uint64_t offset = index < l1_.size() ? l1_[index] & offset_mask : 0;
  if (offset == 0) return nullptr;
  const auto found = tables_.find(index);
  if (found != tables_.end()) return &found->second;
  if (tables_.size() * image_.cluster() >= most_cached) tables_.clear();
  return &(tables_[index] = read_buffer(file_, offset, static_cast<std::size_t>(image_.cluster())));
}

// A table that may be written: there, and not a snapshot's too.
Buffer& Qcow2Container::table_for(std::uint64_t index) {
  Buffer* found = table(index);
  if (found != nullptr && (l1_[index] & copied) != 0 && !is_shared(l1_[index] & offset_mask))
    return *found;
  const std::uint64_t old = l1_[index] & offset_mask;
  const Buffer content = found != nullptr ? *found : Buffer(image_.cluster());
  const std::uint64_t at = refcounts().allocate(1);
  file_.write_unreferenced(at, content);
  if (old != 0) refcounts().release(old / image_.cluster());
  l1_[index] = at | copied;
  file_.write(image_.raw.l1_table_offset.value() + index * 8, bytes_of(Be64(l1_[index])));
  return tables_[index] = content;
}

Qcow2Container::Entry Qcow2Container::entry_of(std::uint64_t cluster) {
  const Buffer* found = table(cluster / image_.entries_per_table());
  if (found == nullptr) return {};
  const std::uint64_t at = cluster % image_.entries_per_table() * image_.entry_size();
  Entry entry{parse_as<Be64>(*found, at).value(), 0};
  if (image_.entry_size() == 16) entry.bitmap = parse_as<Be64>(*found, at + 8).value();
  return entry;
}

void Qcow2Container::set_entry(std::uint64_t cluster, const Entry& entry) {
  set_entries(cluster, {&entry, 1});
}

void Qcow2Container::set_entries(std::uint64_t cluster, std::span<const Entry> fresh) {
  const std::uint64_t size = image_.entry_size();
  while (!fresh.empty()) {
    const std::uint64_t index = cluster / image_.entries_per_table();
    const std::uint64_t inside = cluster % image_.entries_per_table();
    const std::size_t step =
        std::min<std::size_t>(fresh.size(), image_.entries_per_table() - inside);
    Buffer& entries = table_for(index);
    for (std::size_t i = 0; i < step; ++i) {
      put_at(entries, (inside + i) * size, Be64(fresh[i].place));
      if (size == 16) put_at(entries, (inside + i) * size + 8, Be64(fresh[i].bitmap));
    }
    file_.write((l1_[index] & offset_mask) + inside * size,
                ConstByteSpan(entries).subspan(inside * size, step * size));
    cluster += step;
    fresh = fresh.subspan(step);
  }
}

// By its count, whatever the marks in the tables say.
bool Qcow2Container::is_shared(std::uint64_t at) {
  return !image_.snapshots.empty() && data_ == nullptr && at != 0 &&
         refcounts().count(at / image_.cluster()) > 1;
}

// Offset of a plain cluster in the store of data; damage when it cannot be there.
std::uint64_t Qcow2Container::cluster_at(const Entry& entry, std::uint64_t cluster) const {
  const std::uint64_t at = entry.place & offset_mask;
  if (at % image_.cluster() != 0 || at >= data_store().size())
    damaged(fmt::format("cluster {} of the disk lies at {}, where no cluster can be", cluster, at),
            file_.name(), "let the hypervisor check and repair the image first");
  return at;
}

Extent Qcow2Container::find(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t reach = image_.reach_of_table();
  if (offset / reach >= l1_.size() || (l1_[offset / reach] & offset_mask) == 0)
    return {Extent::Kind::below, std::min(length, reach - offset % reach), nullptr, 0};
  const std::uint64_t inside = offset % image_.cluster();
  const std::uint64_t cluster = offset / image_.cluster();
  const Entry entry = entry_of(cluster);
  length = std::min(length, image_.cluster() - inside);
  if ((entry.place & compressed_bit) != 0)
    return {Extent::Kind::compressed, length, &file_,
            compressed_place(entry.place, image_.cluster_bits).offset};
  Extent extent = find_in(entry, inside, length);
  if (extent.kind != Extent::Kind::data) return extent;
  const std::uint64_t at = cluster_at(entry, cluster) + inside;
  extent.store = &data_store();
  extent.at = at;
  // The last cluster of a file may be cut short; what is missing reads as zeros.
  if (at >= extent.store->size()) return {Extent::Kind::zero, extent.length, nullptr, 0};
  extent.length = std::min(extent.length, extent.store->size() - at);
  extent.shared = is_shared(at - inside);
  return extent;
}

// What a plain entry says of a part of its cluster; for data, where is left to the caller.
Extent Qcow2Container::find_in(const Entry& entry, std::uint64_t inside, std::uint64_t length) {
  const auto is_there = [&] {
    // With external data, offset 0 is a place like any other.
    return (entry.place & offset_mask) != 0 || (data_ != nullptr && (entry.place & copied) != 0);
  };
  if (image_.entry_size() == 16) {
    const std::uint64_t unit = image_.cluster() / subclusters;
    const auto kind = [&](std::uint64_t sub) {
      if ((entry.bitmap >> (sub + subclusters) & 1) != 0) return Extent::Kind::zero;
      return (entry.bitmap >> sub & 1) != 0 && is_there() ? Extent::Kind::data
                                                          : Extent::Kind::below;
    };
    const std::uint64_t first = inside / unit;
    std::uint64_t end = first + 1;
    while (end < subclusters && kind(end) == kind(first)) ++end;
    return {kind(first), std::min(length, end * unit - inside), nullptr, 0};
  }
  if (image_.version >= 3 && (entry.place & reads_zero) != 0)
    return {Extent::Kind::zero, length, nullptr, 0};
  return {is_there() ? Extent::Kind::data : Extent::Kind::below, length, nullptr, 0};
}

void Qcow2Container::read_compressed(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t cluster = offset / image_.cluster();
  const Entry entry = entry_of(cluster);
  if (decompressed_.empty() || decompressed_entry_ != entry.place) {
    const CompressedPlace place = compressed_place(entry.place, image_.cluster_bits);
    if (place.offset >= file_.size())
      damaged(fmt::format("packed cluster {} lies past the file's end", cluster), file_.name(),
              "let the hypervisor check and repair the image first");
    const std::uint64_t length = std::min(place.length, file_.size() - place.offset);
    const Buffer compressed = read_buffer(file_, place.offset, static_cast<std::size_t>(length));
    decompressed_.resize(image_.cluster());
    decompressed_entry_ = entry.place;
    try {
      decompress(image_.zstd ? Compression::zstd : Compression::deflate, compressed, decompressed_);
    } catch (const Error& error) {
      decompressed_.clear();
      throw error.with_context(
          fmt::format("{}, cluster {} at {}", file_.name(), cluster, place.offset));
    }
  }
  const std::uint64_t inside = offset % image_.cluster();
  std::copy_n(decompressed_.begin() + static_cast<std::ptrdiff_t>(inside), out.size(), out.begin());
}

// The clusters that an entry held have one reference less.
void Qcow2Container::let_go(const Entry& entry) {
  if ((entry.place & compressed_bit) != 0) {
    const CompressedPlace place = compressed_place(entry.place, image_.cluster_bits);
    const std::uint64_t last = (place.offset + place.length - 1) / image_.cluster();
    for (std::uint64_t c = place.offset / image_.cluster(); c <= last; ++c) refcounts().release(c);
  } else if (data_ == nullptr && (entry.place & offset_mask) != 0) {
    refcounts().release((entry.place & offset_mask) / image_.cluster());
  }
}

void Qcow2Container::put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                                ConstByteSpan content) {
  std::uint64_t at = first * image_.cluster();
  if (data_ != nullptr) {
    // Data in a file of its own lies where it lies on the disk.
    const std::uint64_t end = at + count * image_.cluster();
    if (data_->size() < end) data_->resize(end);
    data_->discard(at, end - at);
    data_->write(at + inside, content);
  } else {
    at = refcounts().allocate(count);
    write_into_zeros(file_, at + inside, content);
  }
  std::vector<Entry> old(count);
  std::vector<Entry> fresh(count);
  for (std::uint64_t i = 0; i < count; ++i) {
    old[i] = entry_of(first + i);
    fresh[i] = {(at + i * image_.cluster()) | copied, 0xffffffff};
  }
  set_entries(first, fresh);
  for (const Entry& entry : old) let_go(entry);
}

void Qcow2Container::drop_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t i = first; i < first + count; ++i) {
    const Entry old = entry_of(i);
    if (old.place == 0 && old.bitmap == 0 && !below_) continue;
    Entry fresh;
    if (below_) {
      if (image_.version < 3) {
        put_blocks(i, 1, 0, {});
        continue;
      }
      fresh =
          image_.entry_size() == 16 ? Entry{0, 0xffffffffULL << subclusters} : Entry{reads_zero, 0};
    }
    set_entry(i, fresh);
    let_go(old);
  }
}

void Qcow2Container::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t i = first; i < first + count; ++i) {
    const Entry old = entry_of(i);
    set_entry(i, {});
    let_go(old);
  }
}

// What a snapshot keeps takes as much room whether the disk shows it or not.
void Qcow2Container::forget_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t i = first; i < first + count; ++i) {
    const Entry entry = entry_of(i);
    const bool packed = (entry.place & compressed_bit) != 0;
    if (!image_.snapshots.empty() && (packed || is_shared(entry.place & offset_mask))) continue;
    drop_blocks(i, 1);
  }
}

void Qcow2Container::for_each_snapshot_range(const FileRange& visit) {
  qcow2::for_each_snapshot_range(file_, image_, visit);
}

std::vector<std::uint64_t> Qcow2Container::kept_by_snapshots() {
  try {
    return qcow2::kept_by_snapshots(file_, image_, refcounts());
  } catch (const Error&) {
    return {};  // the audit says what is wrong with them
  }
}

void Qcow2Container::check_growth(Bytes new_size) {
  const std::uint64_t most = max_l1_bytes / 8 * image_.reach_of_table();
  if (new_size.value() > std::min<std::uint64_t>(most, INT64_MAX))
    refuse(fmt::format("with clusters of {}, a qcow2 disk reaches {} at most",
                       human(Bytes(image_.cluster())), human(Bytes(most))),
           file_.name(), "recast it into a new image with larger clusters");
}

// Each snapshot goes back to the disk that it was made of: its size is on record before the disk
// has another.
void Qcow2Container::keep_snapshot_sizes() {
  const auto list = list_with_sizes(file_, image_, image_.size);
  if (!list) return;
  const std::uint64_t old_first = image_.raw.snapshots_offset.value() / image_.cluster();
  const std::uint64_t old_end =
      ceil_div(image_.raw.snapshots_offset.value() + image_.snapshot_list_size, image_.cluster());
  Buffer whole = *list;
  whole.resize(round_up(whole.size(), image_.cluster()));
  const std::uint64_t at = refcounts().allocate(whole.size() / image_.cluster());
  file_.write_unreferenced(at, whole);
  for (std::uint64_t c = old_first; c < old_end; ++c) refcounts().release(c);
  image_.raw.snapshots_offset = at;
  write_header(file_, image_);
  image_.snapshots.clear();
  image_.snapshot_tables.clear();
  read_snapshots(file_, image_);
}

// All tables behind the end of a disk of this size, with what they name. A hypervisor keeps a
// guest's memory there while it saves it; what is left would become a part of a larger disk.
void Qcow2Container::drop_tables_behind(std::uint64_t disk_size) {
  for (std::uint64_t index = image_.tables_for(disk_size); index < l1_.size(); ++index) {
    Buffer* entries = table(index);
    if (entries == nullptr) continue;
    const Buffer old = *entries;
    for (std::uint64_t i = 0; i < image_.entries_per_table(); ++i)
      let_go({parse_as<Be64>(old, i * image_.entry_size()).value(), 0});
    refcounts().release((l1_[index] & offset_mask) / image_.cluster());
    l1_[index] = 0;
    tables_.erase(index);
    file_.write(image_.raw.l1_table_offset.value() + index * 8, bytes_of(Be64(0)));
  }
}

void Qcow2Container::grow(Bytes new_size) {
  keep_snapshot_sizes();
  resize_bitmaps(file_, image_, refcounts(), new_size.value());
  drop_tables_behind(image_.size);
  const std::uint64_t tables = image_.tables_for(new_size.value());
  const std::uint64_t present = l1_.size();
  const std::uint64_t old_size = image_.size;
  image_.size = new_size.value();
  if (tables > present) {
    l1_.resize(tables);
    const std::uint64_t old_at = image_.raw.l1_table_offset.value();
    const std::uint64_t old_clusters = ceil_div(present * 8, image_.cluster());
    image_.raw.l1_size = checked_cast<std::uint32_t>(tables);
    if (tables * 8 <= old_clusters * image_.cluster()) {
      // The file may end with the table's last entry instead of with its cluster.
      const std::uint64_t end = old_at + old_clusters * image_.cluster();
      if (file_.size() < end) file_.resize(end);
      file_.write(old_at + present * 8, Buffer((tables - present) * 8));
    } else {
      Buffer raw(round_up(tables * 8, image_.cluster()));
      for (std::size_t i = 0; i < l1_.size(); ++i) put_at(raw, i * 8, Be64(l1_[i]));
      const std::uint64_t at = refcounts().allocate(raw.size() / image_.cluster());
      file_.write_unreferenced(at, raw);
      image_.raw.l1_table_offset = at;
      for (std::uint64_t i = 0; i < old_clusters; ++i)
        refcounts().release(old_at / image_.cluster() + i);
    }
  }
  write_header(file_, image_);
  // Of a parent that reaches further nothing shows through.
  if (below_ && below_->disk().size() > old_size) {
    const std::uint64_t end = std::min(image_.size, below_->disk().size());
    disk().discard(old_size, end - old_size);
  }
  // A raw reader of the data file sees the new size too.
  if (data_ != nullptr && data_->size() < image_.size) data_->resize(image_.size);
}

void Qcow2Container::check_shrink(Bytes) {}

void Qcow2Container::shrink(Bytes new_size) {
  keep_snapshot_sizes();
  resize_bitmaps(file_, image_, refcounts(), new_size.value());
  clear_tail(new_size.value());
  const std::uint64_t first = ceil_div(new_size.value(), image_.cluster());
  const std::uint64_t per_table = image_.entries_per_table();
  // Of the table that the new end lies in a part stays.
  if (Buffer* entries = first % per_table == 0 ? nullptr : table(first / per_table)) {
    const Buffer old = *entries;
    for (std::uint64_t i = first % per_table; i < per_table; ++i) {
      const std::uint64_t place = parse_as<Be64>(old, i * image_.entry_size()).value();
      if (place == 0 && image_.entry_size() == 8) continue;
      set_entry(round_down(first, per_table) + i, {});
      let_go({place, 0});
    }
  }
  drop_tables_behind(new_size.value());
  image_.size = new_size.value();
  write_header(file_, image_);
  if (data_ != nullptr && data_->size() > image_.size) data_->resize(image_.size);
  constexpr std::uint64_t at_once = 256U << 20;
  while (close_gaps(at_once, /*first=*/false) != 0) {
  }
  relocate_tail(UINT64_MAX);
}

// The file ends where the last cluster with a reference does.
void Qcow2Container::cut_file() {
  std::uint64_t clusters = ceil_div(file_.size(), image_.cluster());
  while (clusters > 1 && refcounts().count(clusters - 1) == 0) --clusters;
  file_.resize(std::min(file_.size(), clusters * image_.cluster()));
}

ContainerFacts Qcow2Container::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::qcow2;
  facts.variant = fmt::format("version {}", image_.version);
  facts.allocation = Allocation::sparse;
  facts.disk_size = Bytes(image_.size);
  facts.file_length = Bytes(file_.size() + (data_ == nullptr ? 0 : data_->size()));
  facts.block_size = Bytes(image_.cluster());
  facts.blocks = ceil_div(image_.size, image_.cluster());
  facts.limit =
      human(Bytes(std::min<std::uint64_t>(max_l1_bytes / 8 * image_.reach_of_table(), INT64_MAX)));
  facts.snapshots = image_.snapshots;
  facts.encrypted = image_.raw.crypt_method.value() != 0;
  if (data_ != nullptr) facts.parts.push_back(data_->name());
  describe_parents(
      facts, below_.get(),
      image_.backing.empty() ? std::string() : path_beside(file_.name(), image_.backing),
      file_.name(), ChildSize::its_own);
  if (image_.has(incompatible::dirty))
    facts.pending_repairs.emplace_back(
        "rebuild the reference counts, which its last user left behind");
  if (image_.has(incompatible::extended_l2))
    facts.notes.emplace_back("its clusters are divided into 32 parts");
  if (image_.bitmaps)
    facts.notes.push_back(fmt::format(
        "it keeps {} bitmap{} of changed blocks for backups; after a change the next "
        "backup by one that is kept up copies everything",
        image_.bitmaps->bitmaps.value(), image_.bitmaps->bitmaps.value() == 1 ? "" : "s"));
  if (facts.encrypted)
    facts.notes.emplace_back("its content is encrypted: only the image itself can be looked at");
  // Data in a file of its own has no counts: nothing would say what a snapshot shares.
  if (!facts.snapshots.empty() && data_ != nullptr)
    facts.blockers.push_back(
        in_the_way(fmt::format("the image keeps {} snapshot{} inside, and its data in another file",
                               facts.snapshots.size(), facts.snapshots.size() == 1 ? "" : "s"),
                   file_.name(), "remove the snapshots in the hypervisor"));
  return facts;
}

}  // namespace jh::qcow2
