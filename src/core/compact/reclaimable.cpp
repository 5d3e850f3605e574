#include "core/compact/reclaimable.h"

#include <algorithm>

namespace jh {
namespace {

constexpr std::uint64_t page = 4096;
// Units of which the first page is on its way from the disk.
constexpr std::uint64_t ahead = 256;

// Looks at every unit of the disk that is kept: unused as a whole, or zero where it is used, or
// what the parent has there?
class Search {
 public:
  Search(Container& container, const Unused& unused, Look look)
      : container_(container),
        unused_(unused),
        look_(look),
        facts_(container.facts()),
        has_parents_(!facts_.parents.empty()),
        has_zero_mark_(container.has_zero_mark()),
        unit_(facts_.format == ImageFormat::raw ? page : facts_.block_size.value()) {
    drops_.bytes.resize(unused.sources.size());
  }

  Reclaimable run(Progress& progress) {
    if (look_ == Look::content && has_zero_mark_) {
      progress.begin("looking for zeros", container_.disk().size());
      drops_.zeros_seen = are_there_zeros(progress);
      progress.end();
    }
    progress.begin("looking for what is not used", container_.disk().size());
    for_each_own(progress, [&](const Extent& piece, std::uint64_t at, std::uint64_t length) {
      if (drops_.zeros_seen || has_parents_) announce(piece, at, length);
      look_at(at, length);
      return true;
    });
    progress.end();
    return std::move(drops_);
  }

 private:
  // What of the disk is kept in the image's own files; until `visit` gives back false.
  template <class Visit>
  void for_each_own(Progress& progress, Visit visit) {
    const std::uint64_t size = container_.disk().size();
    const bool is_raw = facts_.format == ImageFormat::raw;
    for (std::uint64_t at = 0; at < size;) {
      const std::uint64_t most = is_raw || look_ == Look::tables ? size : ahead * unit_;
      const Extent piece = container_.extent_at(at, std::min(most, size - at));
      std::uint64_t length = piece.length;
      bool is_zero = false;
      if (is_raw && piece.kind == Extent::Kind::data) {
        const Range run = piece.store->map(piece.at, piece.length);
        length = run.length;
        is_zero = run.zero;
      }
      if (!is_zero && is_own(piece) && !visit(piece, at, length)) return;
      at += length;
      progress.advance(at);
    }
  }

  // Of few units each is looked at. Of many one of 16 first, from end to end: if none of these is
  // zero, hardly any of the others is, and to read from all of them would be most of the work.
  bool are_there_zeros(Progress& progress) {
    constexpr std::uint64_t few = 16'384;
    constexpr std::uint64_t share = 16;
    std::uint64_t seen = 0;
    std::vector<std::uint64_t> asked;
    bool found = false;
    const auto look = [&] {
      found = std::any_of(asked.begin(), asked.end(), [&](std::uint64_t unit) {
        return is_zero(unit, std::min(unit + unit_, container_.disk().size()));
      });
      asked.clear();
    };
    for_each_own(progress, [&](const Extent& piece, std::uint64_t at, std::uint64_t length) {
      for (std::uint64_t unit = round_up(at, unit_); unit < at + length && !found;) {
        const auto [range, reach] = unused_.stretch(unit, at + length - unit);
        const std::uint64_t end = range != nullptr ? round_up(unit + reach, unit_) : unit + unit_;
        if (range == nullptr && seen++ % share == 0) {
          if (piece.kind == Extent::Kind::data)
            piece.store->will_read(piece.at + (unit - at), page);
          asked.push_back(unit);
        }
        if (asked.size() == ahead) look();
        unit = end;
      }
      return !found;
    });
    if (!found) look();
    return found || seen <= few;
  }

  // Parents are not ours to compact, nor is what a snapshot keeps as well.
  bool is_own(const Extent& piece) const {
    const bool compressed = piece.kind == Extent::Kind::compressed;
    if (piece.shared || (compressed && !facts_.snapshots.empty())) return false;
    if (!has_parents_) return compressed || piece.kind == Extent::Kind::data;
    return piece.store != nullptr && (compressed || piece.kind == Extent::Kind::data) &&
           (piece.store->name() == container_.disk().name() ||
            std::find(facts_.parts.begin(), facts_.parts.end(), piece.store->name()) !=
                facts_.parts.end());
  }

  // Most units are told by their first page. It is asked for of many of them at once: one after the
  // other each would cost the disk's whole delay.
  void announce(const Extent& piece, std::uint64_t at, std::uint64_t length) {
    if (look_ == Look::tables || unit_ < 4 * page || piece.kind != Extent::Kind::data) return;
    for (std::uint64_t unit = round_up(at, unit_); unit < at + length; unit += unit_) {
      const auto [range, reach] = unused_.stretch(unit, at + length - unit);
      if (range == nullptr) piece.store->will_read(piece.at + (unit - at), page);
    }
  }

  // Units that a stretch has a part in; one that the stretch before had a part in is done.
  void look_at(std::uint64_t at, std::uint64_t length) {
    const std::uint64_t size = container_.disk().size();
    const std::uint64_t end = round_up(at + length, unit_);
    for (std::uint64_t unit = std::max(done_, round_down(at, unit_)); unit < end; unit = done_) {
      done_ = unit + unit_;
      const std::uint64_t stop = std::min(size, unit + unit_);
      if (const std::uint64_t whole = round_down(look_at_stretch(unit, std::min(size, end)), unit_);
          whole != 0) {
        done_ = unit + whole;
        continue;
      }
      if (has_zero_mark_ && is_needless(unit, stop, Used::zero))
        add_range(drops_.ranges, unit, stop);
      else if (has_parents_ && is_needless(unit, stop, Used::as_parent))
        add_range(drops_.as_parent, unit, stop);
    }
  }

  // Where a unit and those behind it are of one kind they need not be looked at one by one. Returns
  // how much was dealt with: whole units of it are.
  std::uint64_t look_at_stretch(std::uint64_t start, std::uint64_t end) {
    const auto [range, length] = unused_.stretch(start, end - start);
    const std::uint64_t whole = round_down(length, unit_);
    if (whole == 0 || (range == nullptr && look_ == Look::content)) return 0;
    if (range != nullptr && !has_zero_mark_) return 0;
    if (range != nullptr) {
      add_range(drops_.ranges, start, start + whole);
      drops_.bytes[range->source] += whole;
    }
    return whole;
  }

  // What of a unit is used may go if all of it is like this.
  enum class Used { zero, as_parent };

  // Counts what it is by its sources on the way.
  bool is_needless(std::uint64_t start, std::uint64_t end, Used like) {
    std::vector<std::pair<std::uint32_t, std::uint64_t>> shares;
    std::uint64_t used = 0;
    for (std::uint64_t at = start; at < end;) {
      const auto [range, length] = unused_.stretch(at, end - at);
      if (range != nullptr)
        shares.emplace_back(range->source, length);
      else if (look_ == Look::content &&
               (like == Used::zero
                    ? is_worth_reading(start, end, length) && is_zero(at, at + length)
                    : is_as_parent(at, at + length)))
        used += length;
      else
        return false;
      at += length;
    }
    for (const auto& [source, bytes] : shares) drops_.bytes[source] += bytes;
    (like == Used::zero ? drops_.zeros : drops_.same) += used;
    return true;
  }

  // What is used of a unit of which the rest is not may be all that keeps it.
  bool is_worth_reading(std::uint64_t start, std::uint64_t end, std::uint64_t used) const {
    return drops_.zeros_seen || used != end - start;
  }

  bool is_zero(std::uint64_t start, std::uint64_t end) {
    for (std::uint64_t at = start; at < end; at += page) {
      const std::uint64_t step = std::min(page, end - at);
      buffer_.resize(step);
      // Most content shows in its first page that it is none of zeros.
      container_.disk().read(at, buffer_);
      if (!all_zero(buffer_)) return false;
    }
    return true;
  }

  // Most that is not the same shows it in its first page as well; what is the same is read on in
  // larger steps.
  bool is_as_parent(std::uint64_t start, std::uint64_t end) {
    constexpr std::uint64_t most = 256U << 10;
    for (std::uint64_t at = start, step = page; at < end; at += step, step = most) {
      step = std::min(step, end - at);
      buffer_.resize(step);
      below_.resize(step);
      container_.disk().read(at, buffer_);
      container_.read_parent(at, below_);
      if (buffer_ != below_) return false;
    }
    return true;
  }

  Container& container_;
  const Unused& unused_;
  Look look_;
  ContainerFacts facts_;
  bool has_parents_;
  bool has_zero_mark_;
  std::uint64_t unit_;
  std::uint64_t done_ = 0;
  Buffer buffer_;
  Buffer below_;
  Reclaimable drops_;
};

}  // namespace

Reclaimable find_reclaimable(Container& container, const Unused& unused, Look look,
                             Progress& progress) {
  return Search(container, unused, look).run(progress);
}

}  // namespace jh
