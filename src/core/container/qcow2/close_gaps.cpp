// Closing the gaps between compressed clusters of a qcow2 file: they lie byte by byte one behind
// the other, several in a cluster of the file, and over the borders of those.
#include <algorithm>
#include <optional>
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
// Pieces that move in one step, however short they are: that many are kept in memory twice.
constexpr std::size_t most_pieces = 1U << 18;

// Free clusters of the file in rows, from its front on.
struct FreeRuns {
  std::vector<FreeRange> all;        // as many as pieces of a step need, and some more
  std::vector<FreeRange> long_ones;  // the same of those that are long
};

FreeRuns free_runs(Refcounts& counts, std::uint64_t clusters, std::uint64_t cluster,
                   std::uint64_t most) {
  // A part at the end of each is lost, of a cluster alone it may be most.
  const std::uint64_t enough = most < UINT64_MAX / 8 ? most * 8 : UINT64_MAX;
  FreeRuns runs;
  std::uint64_t bytes = 0;
  std::uint64_t long_bytes = 0;
  for (std::uint64_t c = 0; c < clusters && (bytes < enough || long_bytes < enough); ++c) {
    if (counts.count(c) != 0) continue;
    const std::uint64_t first = c;
    while (c < clusters && counts.count(c) == 0) ++c;
    const FreeRange run{first * cluster, c * cluster};
    const std::uint64_t length = run.end - run.start;
    if (bytes < enough) runs.all.push_back(run);
    bytes += length;
    if (c - first < long_run) continue;
    if (long_bytes < enough) runs.long_ones.push_back(run);
    long_bytes += length;
  }
  return runs;
}

// How many clusters of the file pieces touch, and how many would do.
class Spread {
 public:
  Spread(std::uint64_t clusters, std::uint64_t cluster)
      : touched_(clusters + 1), cluster_(cluster) {}
  void add(const CompressedCluster& piece) {
    bytes_ += piece.length;
    const std::uint64_t end = ceil_div(piece.start + piece.length, cluster_);
    for (std::uint64_t c = piece.start / cluster_; c < end && c < touched_.size(); ++c) {
      if (!touched_[c]) ++count_;
      touched_[c] = true;
    }
  }
  bool is_loose() const {
    const std::uint64_t needed = ceil_div(bytes_, cluster_);
    return count_ > needed && count_ - needed > std::max(count_ / tolerated, long_run);
  }

 private:
  std::vector<bool> touched_;
  std::uint64_t cluster_;
  std::uint64_t count_ = 0;
  std::uint64_t bytes_ = 0;
};

// Of pieces in any order those that come first in the file, or last, until they take so many bytes
// or are as many as may move at once.
class Selection {
 public:
  enum class End { first, last };
  Selection(End end, std::uint64_t most) : end_(end), most_(most) {}

  void add(const CompressedCluster& piece) {
    if (bound_ && !comes_before(piece, *bound_)) return;
    pieces_.push_back(piece);
    bytes_ += piece.length;
    if (bytes_ / 2 >= most_ || pieces_.size() >= 2 * most_pieces) cut();
  }
  /// In the order in which they are to move.
  std::vector<CompressedCluster> take() {
    cut();
    return std::move(pieces_);
  }

 private:
  bool comes_before(const CompressedCluster& a, const CompressedCluster& b) const {
    return end_ == End::first ? a.start < b.start : a.start > b.start;
  }
  void cut() {
    std::sort(pieces_.begin(), pieces_.end(),
              [&](const auto& a, const auto& b) { return comes_before(a, b); });
    bytes_ = 0;
    for (std::size_t i = 0; i < pieces_.size(); ++i) {
      bytes_ += pieces_[i].length;
      if (bytes_ < most_ && i + 1 < most_pieces) continue;
      pieces_.resize(i + 1);
      bound_ = pieces_.back();
    }
  }

  End end_;
  std::uint64_t most_;
  std::vector<CompressedCluster> pieces_;
  std::uint64_t bytes_ = 0;
  std::optional<CompressedCluster> bound_;
};

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

// In the order of the disk.
void Qcow2Container::for_each_compressed(
    const std::function<void(const CompressedCluster&)>& visit) {
  for (std::uint64_t index = 0; index < l1_.size(); ++index) {
    const Buffer* entries = table(index);
    if (entries == nullptr) continue;
    for (std::uint64_t i = 0; i < image_.entries_per_table(); ++i) {
      const std::uint64_t entry = parse_as<Be64>(*entries, i * image_.entry_size()).value();
      if ((entry & compressed_bit) == 0) continue;
      const CompressedPlace place = compressed_place(entry, image_.cluster_bits);
      const std::uint64_t start = round_down(place.offset, 512);
      visit({start, place.offset + place.length - start, index * image_.entries_per_table() + i});
    }
  }
}

// All pieces of a large image do not fit into memory: each step reads the tables two or three
// times, and keeps those that it may move.
std::uint64_t Qcow2Container::close_gaps(std::uint64_t most, bool first) {
  const std::uint64_t cluster = image_.cluster();
  // Packed pieces of several states lie side by side: with snapshots none of them moves.
  if (data_ != nullptr || !image_.snapshots.empty()) return 0;
  const std::uint64_t clusters = ceil_div(file_.size(), cluster);
  Spread spread(clusters, cluster);
  std::uint64_t last = 0;
  bool any = false;
  for_each_compressed([&](const CompressedCluster& piece) {
    any = true;
    last = std::max(last, piece.start);
    spread.add(piece);
  });
  if (!any) return 0;
  FreeRuns runs = free_runs(refcounts(), ceil_div(last, cluster), cluster, most);
  const auto select = [&](Selection::End end, std::uint64_t from) {
    Selection selection(end, most);
    for_each_compressed([&](const CompressedCluster& piece) {
      if (piece.start >= from) selection.add(piece);
    });
    return selection.take();
  };
  // All behind a long gap slide into it, which becomes longer on its way to the end.
  if (!runs.long_ones.empty()) {
    const std::uint64_t behind = runs.long_ones[0].end;
    Spread spread_behind(clusters, cluster);
    for_each_compressed([&](const CompressedCluster& piece) {
      if (piece.start >= behind) spread_behind.add(piece);
    });
    if (spread_behind.is_loose()) {
      const auto pieces = select(Selection::End::first, behind);
      const std::uint64_t moved =
          GapCloser(*this, runs.long_ones)
              .move(pieces.cbegin(), pieces.cend(), most, /*only_forward=*/true);
      if (moved != 0) return moved;
    }
  }
  // The first long gap is made by taking some of the first ones to the file's end.
  if (first && runs.long_ones.empty() && spread.is_loose()) {
    const auto pieces = select(Selection::End::first, 0);
    std::uint64_t wanted = 0;
    for (const CompressedCluster& piece : pieces) wanted += piece.length;
    const std::uint64_t taken = ceil_div(wanted, cluster);
    const std::uint64_t at = refcounts().allocate(taken);
    refcounts().set_run(at / cluster, taken, 0);  // each piece counts by itself
    return GapCloser(*this, {{at, at + taken * cluster}})
        .move(pieces.cbegin(), pieces.cend(), UINT64_MAX, /*only_forward=*/false);
  }
  // Otherwise the last ones go where something is free in front of them.
  const auto pieces = select(Selection::End::last, 0);
  return GapCloser(*this, std::move(runs.all))
      .move(pieces.cbegin(), pieces.cend(), most, /*only_forward=*/true);
}

}  // namespace jh::qcow2
