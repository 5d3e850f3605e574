#include "core/figure/occupancy.h"

#include <algorithm>
#include <functional>
#include <map>
#include <optional>

#include "core/guest/unused.h"

namespace jh {
namespace {

// Where each file of a disk begins, when they stand one behind the other.
class Files {
 public:
  explicit Files(const Disk& disk) {
    add(*disk.file);
    if (disk.resolver == nullptr) return;
    for (const std::string& path : disk.container->facts().parts)
      if (Store* part = disk.resolver->part(path)) add(*part);
  }
  std::uint64_t length() const { return length_; }
  /// Calls visit(at, length) for what takes no room on the host.
  void for_each_hole(const std::function<void(std::uint64_t, std::uint64_t)>& visit) const {
    for (const auto& [start, file] : files_)
      for (std::uint64_t at = 0; at < file->size();) {
        const Range run = file->map(at, file->size() - at);
        if (run.zero) visit(start + at, run.length);
        at += run.length;
      }
  }
  /// Nothing: it is none of this disk's (a parent's).
  std::optional<std::uint64_t> position(const Store& store, std::uint64_t at) const {
    const auto found = starts_.find(store.name());
    if (found == starts_.end()) return std::nullopt;
    return found->second + at;
  }

 private:
  void add(Store& file) {
    files_.emplace_back(length_, &file);
    starts_.emplace(file.name(), length_);
    length_ += file.size();
  }

  std::vector<std::pair<std::uint64_t, Store*>> files_;
  std::map<std::string, std::uint64_t> starts_;
  std::uint64_t length_ = 0;
};

class Collector {
 public:
  Collector(std::uint64_t length, std::vector<OccupancyBin>& bins)
      : width_(std::max<std::uint64_t>((length + bins.size() - 1) / bins.size(), 1)), bins_(bins) {}

  void add(std::uint64_t at, std::uint64_t length, double OccupancyBin::*share) {
    while (length != 0) {
      const std::uint64_t bin = at / width_;
      if (bin >= bins_.size()) return;
      const std::uint64_t part = std::min(length, (bin + 1) * width_ - at);
      bins_[bin].*share += static_cast<double>(part) / static_cast<double>(width_);
      at += part;
      length -= part;
    }
  }
  std::uint64_t width() const { return width_; }

 private:
  std::uint64_t width_;
  std::vector<OccupancyBin>& bins_;
};

}  // namespace

Occupancy occupancy_of(const Guest& guest, std::size_t index, std::uint64_t host,
                       Progress& progress) {
  const Disk& disk = guest.disks()[index];
  const Unused unused = find_unused(guest, index);
  const Files files(disk);
  const bool has_tables = disk.container->facts().format != ImageFormat::raw;
  Occupancy out;
  out.image = disk.path;
  out.length = files.length();
  out.host = host;
  out.disk = disk.size().value();
  out.used = out.disk - std::min(out.disk, unused.bytes());
  out.bins.resize(Occupancy::bin_count);
  Collector bins(out.length, out.bins);
  progress.begin("looking where the image keeps what", out.disk);
  for (std::uint64_t at = 0; at < out.disk;) {
    const Unused::Range stretch = unused.stretch(at, out.disk - at);
    Extent piece = disk.container->extent_at(at, stretch.length);
    const bool kept = piece.store != nullptr &&
                      (piece.kind == Extent::Kind::data || piece.kind == Extent::Kind::compressed);
    if (kept && piece.kind == Extent::Kind::data) {
      const Range run = piece.store->map(piece.at, piece.length);
      piece.length = run.length;
      if (run.zero) piece.kind = Extent::Kind::zero;  // a hole of the host's file
    }
    if (kept && piece.kind != Extent::Kind::zero) {
      if (const auto position = files.position(*piece.store, piece.at)) {
        bins.add(*position, piece.length,
                 stretch.range != nullptr ? &OccupancyBin::idle : &OccupancyBin::used);
        if (stretch.range != nullptr) out.idle += piece.length;
      }
    }
    at += piece.length;
    progress.advance(at);
  }
  progress.end();
  std::vector<OccupancyBin> holes(out.bins.size());
  Collector hole_bins(out.length, holes);
  files.for_each_hole([&](std::uint64_t at, std::uint64_t length) {
    hole_bins.add(at, length, &OccupancyBin::idle);
  });
  for (std::size_t i = 0; i < out.bins.size(); ++i) {
    OccupancyBin& bin = out.bins[i];
    const std::uint64_t start = i * bins.width();
    const double there = start >= out.length
                             ? 0
                             : std::min(1.0, static_cast<double>(out.length - start) /
                                                 static_cast<double>(bins.width()));
    bin.used = std::min(bin.used, 1.0);
    bin.idle = std::min(bin.idle, 1.0 - bin.used);
    if (has_tables)
      bin.tables = std::max(0.0, there - bin.used - bin.idle - std::min(1.0, holes[i].idle));
  }
  return out;
}

}  // namespace jh
