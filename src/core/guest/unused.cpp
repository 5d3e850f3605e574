#include "core/guest/unused.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh {
namespace {

// Boot loaders keep parts of themselves in front of the first partition, and some disk controllers
// their notes at the very end.
constexpr std::uint64_t margin = 1U << 20;

class Finder {
 public:
  Finder(const Guest& guest, std::size_t disk, UnusedWhere where)
      : guest_(guest), disk_(disk), where_(where) {}

  Unused run() {
    const Disk& disk = guest_.disks()[disk_];
    if (disk.trouble) {
      found_.kept.push_back(disk.path + ": " + disk.trouble->what());
      return std::move(found_);
    }
    try {
      check_claims(guest_, disk_);
    } catch (const Error& error) {
      found_.kept.push_back(error.where() + ": " + error.what());
      return std::move(found_);
    }
    for (const Layer& layer : disk.layers) {
      std::size_t pv = 0;
      if (layer.content.kind == ContentKind::logical_partitions) continue;
      if (const VolumeGroup* group = guest_.group_on(layer, pv))
        add_device(*group, pv, layer);
      else
        add_content(layer, [&](std::uint64_t start, std::uint64_t end, std::uint32_t source) {
          add(layer.offset.value() + start, layer.offset.value() + end, source);
        });
    }
    if (disk.table && disk.table->facts().blockers.empty()) add_gaps(disk);
    std::sort(found_.ranges.begin(), found_.ranges.end(),
              [](const UnusedRange& a, const UnusedRange& b) { return a.start < b.start; });
    return std::move(found_);
  }

 private:
  std::uint32_t source(std::string name) {
    found_.sources.push_back(std::move(name));
    return static_cast<std::uint32_t>(found_.sources.size() - 1);
  }

  void add(std::uint64_t start, std::uint64_t end, std::uint32_t source) {
    if (start >= end) return;
    auto& ranges = found_.ranges;
    if (!ranges.empty() && ranges.back().end == start && ranges.back().source == source)
      ranges.back().end = end;
    else
      ranges.push_back({start, end, source});
  }

  // Calls visit(start, end, source) with bytes of the place.
  template <class Visit>
  void add_content(const Layer& layer, Visit visit) {
    const Content& content = layer.content;
    if (where_ == UnusedWhere::outside_of_filesystems) return;
    const std::string name = guest_.best_name(layer);
    if (!content.filesystem() || !content.blockers.empty()) {
      if (content.kind != ContentKind::nothing)
        found_.kept.push_back(
            fmt::format("{} ({}) is kept as it is, but for zeros", name, content.name));
      return;
    }
    if (content.replay()) {
      found_.kept.push_back(name +
                            " was not cleanly unmounted: it is kept as it is, but for zeros");
      return;
    }
    const std::uint32_t number = source(content.on_disk()->free_words(name));
    content.on_disk()->for_each_free(
        [&](std::uint64_t start, std::uint64_t end) { visit(start, end, number); });
  }

  void add_device(const VolumeGroup& group, std::size_t pv, const Layer& layer) {
    const lvm::Group& facts = group.open.group;
    if (!group.open.blockers().empty()) {
      found_.kept.push_back(fmt::format("group {} is kept as it is: {}", facts.name,
                                        group.open.blockers().front().what()));
      return;
    }
    const std::uint64_t data = layer.offset.value() + facts.pvs[pv].data_start;
    const std::uint64_t unit = facts.extent_size;
    const std::uint32_t number = source("free extents of group " + facts.name);
    for (const lvm::ExtentRange& run : facts.free_runs(pv))
      add(data + run.first * unit, data + (run.first + run.count) * unit, number);
    for (const Layer& volume : group.volumes) {
      const lvm::Volume& about = guest_.volume_of(volume);
      if (!about.plain() || !about.used_by.empty() || !about.visible || !volume.window) continue;
      add_content(volume, [&](std::uint64_t start, std::uint64_t end, std::uint32_t source) {
        add_in_volume(about, facts, pv, data, start, end, source);
      });
    }
  }

  // A part of a volume, as far as it lies on this physical volume.
  void add_in_volume(const lvm::Volume& volume, const lvm::Group& group, std::size_t pv,
                     std::uint64_t data, std::uint64_t start, std::uint64_t end,
                     std::uint32_t source) {
    const std::uint64_t unit = group.extent_size;
    for (const lvm::Segment& segment : volume.segments) {
      const std::uint64_t from = std::max(start, segment.start * unit);
      const std::uint64_t to = std::min(end, (segment.start + segment.count) * unit);
      if (from >= to) continue;
      const std::uint64_t width = segment.stripes.size();
      const std::uint64_t chunk = width > 1 ? segment.stripe_size : segment.count * unit;
      for (std::uint64_t at = from; at < to;) {
        const std::uint64_t inside = at - segment.start * unit;
        const std::uint64_t step = std::min(to - at, chunk - inside % chunk);
        const lvm::Stripe& stripe = segment.stripes[inside / chunk % width];
        if (stripe.pv == pv) {
          const std::uint64_t first =
              data + stripe.extent * unit + inside / chunk / width * chunk + inside % chunk;
          add(first, first + step, source);
        }
        at += step;
      }
    }
  }

  void add_gaps(const Disk& disk) {
    const std::uint32_t sector = disk.table->facts().sector_size;
    for (const Gap& gap : disk.table->gaps()) {
      if (gap.in_extended) continue;
      std::uint64_t start = to_bytes(gap.first, sector).value();
      std::uint64_t end = start + to_bytes(gap.count, sector).value();
      const bool in_front = std::none_of(
          disk.layers.begin(), disk.layers.end(),
          [&](const Layer& layer) { return layer.partition && layer.offset.value() < start; });
      if (in_front) continue;
      end = std::min(end, disk.size().value() - std::min(disk.size().value(), margin));
      if (start < end) add(start, end, source(fmt::format("the gap at {}", human(Bytes(start)))));
    }
  }

  const Guest& guest_;
  std::size_t disk_;
  UnusedWhere where_;
  Unused found_;
};

}  // namespace

std::uint64_t Unused::bytes() const {
  std::uint64_t sum = 0;
  for (const UnusedRange& range : ranges) sum += range.end - range.start;
  return sum;
}

Unused::Range Unused::stretch(std::uint64_t at, std::uint64_t length) const {
  const auto next = std::upper_bound(
      ranges.begin(), ranges.end(), at,
      [](std::uint64_t value, const UnusedRange& range) { return value < range.end; });
  if (next == ranges.end()) return {nullptr, length};
  if (next->start <= at) return {&*next, std::min(length, next->end - at)};
  return {nullptr, std::min(length, next->start - at)};
}

Unused find_unused(const Guest& guest, std::size_t disk, UnusedWhere where) {
  return Finder(guest, disk, where).run();
}

}  // namespace jh
