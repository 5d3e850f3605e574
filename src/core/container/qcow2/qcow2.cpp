#include "core/container/qcow2/qcow2.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/compression.h"
#include "core/container/chain.h"
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
  return &tables_.of(index, [&] {
    return read_buffer(file_, offset, static_cast<std::size_t>(image_.cluster()));
  });
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
  return tables_.put(index, content);
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
  const std::uint64_t here = std::min(length, image_.cluster() - inside);
  if ((entry.place & compressed_bit) != 0)
    return {Extent::Kind::compressed, here, &file_,
            compressed_place(entry.place, image_.cluster_bits).offset};
  Extent extent = find_in(entry, inside, here);
  if (extent.kind != Extent::Kind::data) {
    extend(extent, cluster, length);
    return extent;
  }
  const std::uint64_t at = cluster_at(entry, cluster) + inside;
  extent.store = &data_store();
  extent.at = at;
  // The last cluster of a file may be cut short; what is missing reads as zeros.
  if (at >= extent.store->size()) return {Extent::Kind::zero, extent.length, nullptr, 0};
  extent.length = std::min(extent.length, extent.store->size() - at);
  extent.shared = is_shared(at - inside);
  extend(extent, cluster, length);
  return extent;
}

// What the following entries of the same table say as well, up to `length` in all.
void Qcow2Container::extend(Extent& extent, std::uint64_t cluster, std::uint64_t length) {
  if (image_.entry_size() != sizeof(Be64) || extent.length >= length) return;
  const Buffer& entries = *table(cluster / image_.entries_per_table());
  const std::uint64_t end = extent.kind == Extent::Kind::data ? extent.store->size() : 0;
  for (std::size_t at = (cluster % image_.entries_per_table() + 1) * sizeof(Be64);
       at < entries.size() && extent.length < length; at += sizeof(Be64)) {
    const Entry next{parse_as<Be64>(entries, at).value(), 0};
    const std::uint64_t part = std::min(length - extent.length, image_.cluster());
    if ((next.place & compressed_bit) != 0 || find_in(next, 0, part).kind != extent.kind) return;
    if (extent.kind == Extent::Kind::data) {
      const std::uint64_t place = next.place & offset_mask;
      if (place != extent.at + extent.length || place >= end || part > end - place ||
          is_shared(place) != extent.shared)
        return;
    }
    extent.length += part;
  }
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
void Qcow2Container::let_go(std::span<const Entry> entries) {
  std::uint64_t first = 0;  // clusters in a row that go at once
  std::uint64_t count = 0;
  const auto release = [&](std::uint64_t from, std::uint64_t clusters) {
    if (count != 0 && from == first + count) {
      count += clusters;
      return;
    }
    refcounts().release_run(first, count);
    first = from;
    count = clusters;
  };
  for (const Entry& entry : entries) {
    if ((entry.place & compressed_bit) != 0) {
      const CompressedPlace place = compressed_place(entry.place, image_.cluster_bits);
      const std::uint64_t from = place.offset / image_.cluster();
      release(from, (place.offset + place.length - 1) / image_.cluster() + 1 - from);
    } else if (data_ == nullptr && (entry.place & offset_mask) != 0) {
      release((entry.place & offset_mask) / image_.cluster(), 1);
    }
  }
  refcounts().release_run(first, count);
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
  let_go(old);
}

void Qcow2Container::drop_blocks(std::uint64_t first, std::uint64_t count) {
  if (!below_) {
    clear_entries(first, count);
    return;
  }
  for (std::uint64_t i = first; i < first + count; ++i) {
    const Entry old = entry_of(i);
    if (image_.version < 3) {
      put_blocks(i, 1, 0, {});
      continue;
    }
    set_entry(i, image_.entry_size() == 16 ? Entry{0, 0xffffffffULL << subclusters}
                                           : Entry{reads_zero, 0});
    let_go(old);
  }
}

void Qcow2Container::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  clear_entries(first, count);
}

void Qcow2Container::clear_entries(std::uint64_t first, std::uint64_t count) {
  const auto says_nothing = [](const Entry& entry) {
    return entry.place == 0 && entry.bitmap == 0;
  };
  while (count != 0) {
    const std::uint64_t inside = first % image_.entries_per_table();
    const std::uint64_t step = std::min(count, image_.entries_per_table() - inside);
    std::vector<Entry> old(table(first / image_.entries_per_table()) == nullptr ? 0 : step);
    for (std::size_t i = 0; i < old.size(); ++i) old[i] = entry_of(first + i);
    for (std::size_t i = 0; i < old.size();) {
      std::size_t end = i;
      while (end < old.size() && !says_nothing(old[end])) ++end;
      if (end != i) set_entries(first + i, std::vector<Entry>(end - i));
      i = std::max(end, i + 1);
    }
    let_go(old);
    first += step;
    count -= step;
  }
}

// What a snapshot keeps takes as much room whether the disk shows it or not.
void Qcow2Container::forget_blocks(std::uint64_t first, std::uint64_t count) {
  if (image_.snapshots.empty()) {
    drop_blocks(first, count);
    return;
  }
  for (std::uint64_t i = first; i < first + count; ++i) {
    const Entry entry = entry_of(i);
    const bool packed = (entry.place & compressed_bit) != 0;
    if (packed || is_shared(entry.place & offset_mask)) continue;
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
