#include "core/fs/ntfs/room.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh::ntfs {
namespace {

[[noreturn]] void no_room() {
  refuse("the volume has no room for what has to move", "NTFS",
         "ask for a larger size, or remove something inside the guest first");
}

}  // namespace

void BitMap::set_range(std::uint64_t from, std::uint64_t end, bool value) {
  for (; from < end && from % 8 != 0; ++from) set(from, value);
  if (const std::uint64_t whole = (end - std::min(from, end)) / 8; whole != 0) {
    std::fill_n(bytes_.begin() + static_cast<std::ptrdiff_t>(from / 8), whole,
                static_cast<std::uint8_t>(value ? 0xFF : 0));
    from += whole * 8;
  }
  for (; from < end; ++from) set(from, value);
}

std::uint64_t BitMap::next(std::uint64_t from, std::uint64_t end, bool value) const {
  const std::uint8_t none = value ? 0 : 0xFF;
  const std::uint64_t none_8 = value ? 0 : ~std::uint64_t{0};
  while (from < end) {
    if (from % 8 == 0) {
      std::uint64_t word = 0;
      while (end - from >= 64) {
        std::memcpy(&word, bytes_.data() + from / 8, sizeof(word));
        if (word != none_8) break;
        from += 64;
      }
      while (end - from >= 8 && bytes_[from / 8] == none) from += 8;
      if (from >= end) return end;
    }
    if (test(from) == value) return from;
    ++from;
  }
  return end;
}

BitMap read_cluster_map(Filesystem& fs) {
  const Stream bitmap = File(fs, fs.read_record(file::bitmap)).stream(type::data);
  const std::uint64_t bytes = fs.geometry().bitmap_bytes();
  if (bitmap.size() < ceil_div(fs.geometry().clusters, 8))
    damaged(fmt::format("the cluster bitmap has {} bytes, and {} clusters need {}", bitmap.size(),
                        fs.geometry().clusters, bytes),
            "NTFS, $Bitmap");
  Buffer map = bitmap.read(0, std::min(bytes, bitmap.size()));
  map.resize(bytes, 0xFF);
  return BitMap(std::move(map));
}

ClusterRun FreeClusters::hand_out(std::uint64_t lcn, std::uint64_t count) {
  map_.set_range(lcn, lcn + count, true);
  return {0, lcn, count};
}

// The first run that is long enough; if none is, what is free first.
ClusterRun FreeClusters::take(std::uint64_t count) {
  cursor_ = map_.next(cursor_, end_, false);
  if (cursor_ == end_) no_room();
  if (count < hopeless_) {
    for (std::uint64_t at = cursor_; at < end_;) {
      const std::uint64_t run_end = map_.next(at, std::min(end_, at + count), true);
      if (run_end - at >= count) return hand_out(at, count);
      at = map_.next(run_end, end_, false);
    }
    hopeless_ = count;
  }
  return hand_out(cursor_, map_.next(cursor_, std::min(end_, cursor_ + count), true) - cursor_);
}

void FreeClusters::give_back(std::uint64_t lcn, std::uint64_t count) {
  given_back_.push_back({0, lcn, count});
}

BitMap FreeClusters::finish() {
  for (const ClusterRun& run : given_back_) map_.set_range(run.lcn, run.lcn_end(), false);
  return std::move(map_);
}

ClusterRun NewClusters::take(std::uint64_t count) {
  const std::uint64_t given = std::min(count, end_ - next_);
  if (given == 0) no_room();
  next_ += given;
  return {0, next_ - given, given};
}

void NewClusters::give_back(std::uint64_t lcn, std::uint64_t count) {
  given_back_.push_back({0, lcn, count});
}

Room::Room(Filesystem& fs, Clusters& clusters, Mode mode, GrowTable grow_table)
    : fs_(fs),
      clusters_(clusters),
      mode_(mode),
      grow_record_table_(std::move(grow_table)),
      records_(Buffer{}),
      record_count_(fs.records()) {
  const Stream bitmap = File(fs, fs.read_record(file::mft)).stream(type::bitmap);
  const std::uint64_t bytes = ceil_div(record_count_, 8);
  if (bitmap.size() < bytes) damaged("the bitmap of file records is too short", "NTFS, $MFT");
  records_ = BitMap(bitmap.read(0, bytes));
}

ClusterRuns Room::take(std::uint64_t vcn, std::uint64_t count) {
  ClusterRuns runs;
  while (count != 0) {
    ClusterRun run = clusters_.take(count);
    run.vcn = vcn;
    append_run(runs, run);
    vcn += run.count;
    count -= run.count;
  }
  return runs;
}

std::uint64_t Room::take_record(bool for_table) {
  const std::uint64_t from = for_table ? file::first_spare : file::first_user;
  std::uint64_t found = records_.next(from, record_count_, false);
  if (found == record_count_ && !for_table) {
    grow_table();
    found = records_.next(from, record_count_, false);
  }
  if (found == record_count_)
    unsupported("$MFT is in so many pieces that none of its records is left to list them", "NTFS",
                "let the guest make it whole first (by its own tool for that)");
  records_.set(found, true);
  records_changed_ = true;
  ++records_taken_;
  return found;
}

void Room::give_back_record(std::uint64_t number) {
  records_.set(number, false);
  records_changed_ = true;
}

// By as many records as make whole clusters, at least eight; by more where many were taken before,
// so that $MFT does not fall into too many pieces.
void Room::grow_table() {
  ensure(!growing_, "$MFT grows once at a time");
  const Geometry& g = fs_.geometry();
  const std::uint64_t per_step =
      round_up(std::max<std::uint64_t>(8, records_taken_ / 8) * g.record_size, g.cluster_size);
  const std::uint64_t more = per_step / g.record_size;
  records_.resize(ceil_div(record_count_ + more, 8));
  records_.set_range(record_count_, records_.bits(), false);
  if (mode_ == Mode::rehearse) {
    take(0, per_step / g.cluster_size);
    record_count_ += more;
    note_written(per_step);
    return;
  }
  growing_ = true;
  grow_record_table_(fs_, *this, more);
  growing_ = false;
  record_count_ = fs_.records();
  records_changed_ = true;
}

}  // namespace jh::ntfs
