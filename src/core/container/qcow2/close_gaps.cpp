// Closing the gaps between compressed clusters of a qcow2 file: they lie byte by byte one behind
// the other, several in a cluster of the file, and over the borders of those.
#include <algorithm>
#include <iterator>
#include <span>
#include <vector>

#include "core/container/qcow2/qcow2.h"

namespace jh::qcow2 {

struct FreeRange {
  std::uint64_t start = 0;
  std::uint64_t end = 0;
};

namespace {

// Free clusters in a row that are worth beginning a new row of compressed ones in: at the end of
// each run a part stays unused.
constexpr std::uint64_t long_run = 16;
// The share of the file's clusters with compressed ones that may stay unused.
constexpr std::uint64_t tolerated = 40;

std::vector<FreeRange> free_runs(Refcounts& counts, std::uint64_t clusters, std::uint64_t cluster) {
  std::vector<FreeRange> runs;
  for (std::uint64_t c = 0; c < clusters; ++c) {
    if (counts.count(c) != 0) continue;
    const std::uint64_t first = c;
    while (c < clusters && counts.count(c) == 0) ++c;
    runs.push_back({first * cluster, c * cluster});
  }
  return runs;
}

std::vector<CompressedCluster>::const_iterator first_behind(
    const std::vector<CompressedCluster>& pieces, std::uint64_t offset) {
  return std::lower_bound(
      pieces.begin(), pieces.end(), offset,
      [](const CompressedCluster& piece, std::uint64_t at) { return piece.start < at; });
}

// How many clusters of the file these pieces touch, and how many would do.
struct Spread {
  std::uint64_t touched = 0;
  std::uint64_t needed = 0;
  std::uint64_t gain() const { return touched > needed ? touched - needed : 0; }
  bool is_loose() const { return gain() > std::max(touched / tolerated, long_run); }
};

Spread spread_of(std::span<const CompressedCluster> pieces, std::uint64_t cluster) {
  Spread spread;
  std::uint64_t seen_to = 0;  // clusters counted so far
  std::uint64_t bytes = 0;
  for (const CompressedCluster& piece : pieces) {
    const std::uint64_t first = std::max(seen_to, piece.start / cluster);
    const std::uint64_t end = ceil_div(piece.start + piece.length, cluster);
    if (end > first) spread.touched += end - first;
    seen_to = std::max(seen_to, end);
    bytes += piece.length;
  }
  spread.needed = ceil_div(bytes, cluster);
  return spread;
}

}  // namespace

// Lays pieces one behind the other into free clusters, and brings them out in large writes.
class Qcow2Container::GapCloser {
 public:
  GapCloser(Qcow2Container& owner, std::vector<FreeRange> runs)
      : owner_(owner), runs_(std::move(runs)) {}

  /// Moves pieces in this order, each to the next place, until that is `most` bytes or a little
  /// more. With `only_forward` it ends at the first one that finds no place in front of itself.
  /// Returns the bytes moved.
  template <typename Iterator>
  std::uint64_t move(Iterator from, Iterator to, std::uint64_t most, bool only_forward) {
    std::uint64_t moved = 0;
    for (; from != to && moved < most; ++from) {
      if (!place(*from, only_forward ? round_down(from->start, cluster()) : UINT64_MAX)) break;
      moved += from->length;
    }
    write_back();
    owner_.decompressed_.clear();
    owner_.cut_file();
    return moved;
  }

 private:
  Refcounts& counts() { return owner_.refcounts(); }
  std::uint64_t cluster() const { return owner_.image_.cluster(); }

  // Only to a place that ends in front of `limit`; false when there is none.
  bool place(const CompressedCluster& piece, std::uint64_t limit) {
    while (run_ < runs_.size()) {
      at_ = std::max(at_, runs_[run_].start);
      skip_what_cannot_be_shared(piece.length);
      if (at_ + piece.length <= runs_[run_].end) break;
      write_back();
      ++run_;
    }
    if (run_ == runs_.size() || at_ + piece.length > limit) return false;
    put(piece);
    return true;
  }

  // Narrow counts keep few pieces in a cluster.
  void skip_what_cannot_be_shared(std::uint64_t length) {
    const std::uint32_t bits = owner_.image_.refcount_bits;
    if (bits >= 16) return;  // a cluster has no more sectors than that can count
    const std::uint64_t last = (at_ + length - 1) / cluster();
    for (std::uint64_t c = at_ / cluster(); c <= last; ++c)
      if (counts().count(c) + 1 >= std::uint64_t{1} << bits) {
        write_back();
        at_ = (c + 1) * cluster();
        return;
      }
  }

  void put(const CompressedCluster& piece) {
    const std::uint64_t place = owner_.entry_of(piece.number).place;
    const CompressedPlace was = compressed_place(place, owner_.image_.cluster_bits);
    if (!owner_.tables_only()) {
      if (content_.empty()) content_at_ = at_;
      content_.resize(at_ - content_at_ + piece.length);
      const ByteSpan part = ByteSpan(content_).last(piece.length);
      const std::uint64_t size = owner_.file_.size();
      if (piece.start < size)
        owner_.file_.read(piece.start, part.first(std::min(piece.length, size - piece.start)));
    }
    const std::uint64_t last = (at_ + piece.length - 1) / cluster();
    for (std::uint64_t c = at_ / cluster(); c <= last; ++c) counts().set(c, counts().count(c) + 1);
    const std::uint64_t sectors = piece.length / 512 - 1;
    owner_.set_entry(piece.number,
                     {compressed_bit | sectors << compressed_split(owner_.image_.cluster_bits) |
                          (at_ + was.offset % 512),
                      0});
    owner_.let_go({place, 0});
    at_ += piece.length;
    constexpr std::uint64_t most = 1U << 20;
    if (content_.size() >= most) bring_out_pages();
  }

  // Whole pages only: the rest waits for what comes behind it.
  void bring_out_pages() {
    constexpr std::uint64_t page = 4096;
    const std::uint64_t end = round_down(content_at_ + content_.size(), page);
    if (end <= content_at_) return;
    const std::size_t length = end - content_at_;
    owner_.file_.write_unreferenced(content_at_, ConstByteSpan(content_).first(length));
    content_.erase(content_.begin(), content_.begin() + static_cast<std::ptrdiff_t>(length));
    content_at_ = end;
  }

  void write_back() {
    if (content_.empty()) return;
    content_.resize(round_up(content_at_ + content_.size(), cluster()) - content_at_);
    owner_.file_.write_unreferenced(content_at_, content_);
    content_.clear();
  }

  Qcow2Container& owner_;
  std::vector<FreeRange> runs_;
  std::size_t run_ = 0;
  std::uint64_t at_ = 0;
  Buffer content_;  // of the present run, not written yet
  std::uint64_t content_at_ = 0;
};

// In the order of the file.
std::vector<CompressedCluster> Qcow2Container::compressed_extents() {
  std::vector<CompressedCluster> pieces;
  for (std::uint64_t index = 0; index < l1_.size(); ++index) {
    if ((l1_[index] & offset_mask) == 0) continue;
    for (std::uint64_t i = 0; i < image_.entries_per_table(); ++i) {
      const std::uint64_t number = index * image_.entries_per_table() + i;
      const Entry entry = entry_of(number);
      if ((entry.place & compressed_bit) == 0) continue;
      const CompressedPlace place = compressed_place(entry.place, image_.cluster_bits);
      const std::uint64_t start = round_down(place.offset, 512);
      pieces.push_back({start, place.offset + place.length - start, number});
    }
  }
  std::sort(
      pieces.begin(), pieces.end(),
      [](const CompressedCluster& a, const CompressedCluster& b) { return a.start < b.start; });
  return pieces;
}

std::uint64_t Qcow2Container::close_gaps(std::uint64_t most, bool first) {
  const std::uint64_t cluster = image_.cluster();
  // Packed pieces of several states lie side by side: with snapshots none of them moves.
  if (data_ != nullptr || !image_.snapshots.empty()) return 0;
  const std::vector<CompressedCluster> pieces = compressed_extents();
  if (pieces.empty()) return 0;
  std::vector<FreeRange> runs =
      free_runs(refcounts(), ceil_div(pieces.back().start, cluster), cluster);
  std::vector<FreeRange> long_runs;
  std::copy_if(runs.begin(), runs.end(), std::back_inserter(long_runs),
               [&](const FreeRange& run) { return run.end - run.start >= long_run * cluster; });
  // All behind a long gap slide into it, which becomes longer on its way to the end.
  const auto behind = long_runs.empty() ? pieces.cend() : first_behind(pieces, long_runs[0].end);
  if (behind != pieces.cend() && spread_of({behind, pieces.cend()}, cluster).is_loose()) {
    const std::uint64_t moved =
        GapCloser(*this, long_runs).move(behind, pieces.cend(), most, /*only_forward=*/true);
    if (moved != 0) return moved;
  }
  // The first long gap is made by taking some of the first ones to the file's end.
  if (first && long_runs.empty() && spread_of(pieces, cluster).is_loose()) {
    std::uint64_t wanted = 0;
    for (auto piece = pieces.cbegin(); piece != pieces.cend() && wanted < most; ++piece)
      wanted += piece->length;
    const std::uint64_t clusters = ceil_div(wanted, cluster);
    const std::uint64_t at = refcounts().allocate(clusters);
    refcounts().set_run(at / cluster, clusters, 0);  // each piece counts by itself
    return GapCloser(*this, {{at, at + clusters * cluster}})
        .move(pieces.cbegin(), pieces.cend(), UINT64_MAX, /*only_forward=*/false);
  }
  // Otherwise the last ones go where something is free in front of them.
  return GapCloser(*this, std::move(runs))
      .move(pieces.crbegin(), pieces.crend(), most, /*only_forward=*/true);
}

}  // namespace jh::qcow2
