#include "core/compact/reclaimable.h"

#include <algorithm>

namespace jh {
namespace {

constexpr std::uint64_t page = 4096;

// Looks at every unit of the disk that is kept: unused as a whole, or zero where it is used?
class Search {
 public:
  Search(Container& container, const Unused& unused)
      : container_(container),
        unused_(unused),
        facts_(container.facts()),
        unit_(facts_.format == ImageFormat::raw ? page : facts_.block_size.value()) {
    drops_.bytes.resize(unused.sources.size() + 1);
  }

  Reclaimable run(Progress& progress) {
    const std::uint64_t size = container_.disk().size();
    progress.begin("looking for what is not used", size);
    for (std::uint64_t at = 0; at < size;) {
      const Extent piece = container_.extent_at(at, size - at);
      const bool kept = is_own(piece);
      std::uint64_t length = piece.length;
      if (kept && piece.kind == Extent::Kind::data && facts_.format == ImageFormat::raw) {
        const Range run = piece.store->map(piece.at, piece.length);
        length = run.length;
        if (!run.zero) look_at(at, length);
      } else if (kept) {
        look_at(at, length);
      }
      at += length;
      progress.advance(at);
    }
    progress.end();
    return std::move(drops_);
  }

 private:
  // Parents are not ours to compact, nor is what a snapshot keeps as well.
  bool is_own(const Extent& piece) const {
    if (piece.shared || (piece.kind == Extent::Kind::compressed && !facts_.snapshots.empty()))
      return false;
    const bool has_parents = !facts_.parents.empty();
    if (piece.kind == Extent::Kind::compressed) return !has_parents;
    return piece.kind == Extent::Kind::data &&
           (!has_parents || piece.store->name() == container_.disk().name() ||
            std::find(facts_.parts.begin(), facts_.parts.end(), piece.store->name()) !=
                facts_.parts.end());
  }

  // Units that a stretch has a part in; one that the stretch before had a part in is done.
  void look_at(std::uint64_t at, std::uint64_t length) {
    const std::uint64_t size = container_.disk().size();
    const std::uint64_t end = round_up(at + length, unit_);
    for (std::uint64_t unit = std::max(done_, round_down(at, unit_)); unit < end; unit += unit_) {
      done_ = unit + unit_;
      const std::uint64_t stop = std::min(size, unit + unit_);
      if (is_needless(unit, stop)) add_range(drops_.ranges, unit, stop);
    }
  }

  // Counts what it is by its sources on the way.
  bool is_needless(std::uint64_t start, std::uint64_t end) {
    std::vector<std::pair<std::uint32_t, std::uint64_t>> shares;
    std::uint64_t zeros = 0;
    for (std::uint64_t at = start; at < end;) {
      const auto [range, length] = unused_.stretch(at, end - at);
      if (range != nullptr)
        shares.emplace_back(range->source, length);
      else if (is_zero(at, at + length))
        zeros += length;
      else
        return false;
      at += length;
    }
    for (const auto& [source, bytes] : shares) drops_.bytes[source] += bytes;
    drops_.bytes.back() += zeros;
    return true;
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

  Container& container_;
  const Unused& unused_;
  ContainerFacts facts_;
  std::uint64_t unit_;
  std::uint64_t done_ = 0;
  Buffer buffer_;
  Reclaimable drops_;
};

}  // namespace

Reclaimable find_reclaimable(Container& container, const Unused& unused, Progress& progress) {
  return Search(container, unused).run(progress);
}

}  // namespace jh
