// A larger or a smaller disk in a qcow2 image.
#include <fmt/format.h>

#include <algorithm>

#include "core/container/qcow2/bitmaps.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/qcow2/snapshots.h"

namespace jh::qcow2 {

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
  refcounts().release_run(old_first, old_end - old_first);
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
    if (table(index) == nullptr) continue;
    std::vector<Entry> old(image_.entries_per_table());
    for (std::uint64_t i = 0; i < old.size(); ++i) old[i] = entry_of(index * old.size() + i);
    let_go(old);
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
      refcounts().release_run(old_at / image_.cluster(), old_clusters);
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
  if (first % per_table != 0) clear_entries(first, per_table - first % per_table);
  drop_tables_behind(new_size.value());
  image_.size = new_size.value();
  write_header(file_, image_);
  if (data_ != nullptr && data_->size() > image_.size) data_->resize(image_.size);
  constexpr std::uint64_t at_once = 256U << 20;
  while (close_gaps(at_once, /*first=*/false) != 0) {
  }
  relocate_tail(UINT64_MAX);
}

}  // namespace jh::qcow2
