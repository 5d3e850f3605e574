#include "core/proof/assigned_ranges.h"

#include <algorithm>

#include "core/base/checksum.h"

namespace jh {
namespace {

// Every filesystem keeps its size in front of this.
constexpr std::uint64_t head_of_content = 1U << 20;
// A table's first sectors, with all its entries.
constexpr std::uint64_t head_of_disk = 32768;

class Notes {
 public:
  Notes(const Guest& after, FileSet& files) : after_(after), files_(files) {}

  // A range of a disk; holes cost one record.
  void disk_range(std::size_t disk, std::uint64_t offset, std::uint64_t length) {
    Store& store = after_.disks()[disk].container->disk();
    const std::uint64_t end = std::min(store.size(), offset + length);
    std::uint64_t zeros_from = std::min(offset, end);
    const auto note_zeros = [&](std::uint64_t to) {
      if (zeros_from < to) files_.note_assigned(disk, zeros_from, to - zeros_from, true, 0);
    };
    for (std::uint64_t at = zeros_from; at < end;) {
      const Range run = store.map(at, end - at);
      const std::uint64_t step = run.zero ? run.length : std::min(run.length, ledger::max_payload);
      if (!run.zero) {
        note_zeros(at);
        files_.note_assigned(disk, at, step, false, crc32c(read_buffer(store, at, step)));
        zeros_from = at + step;
      }
      at += step;
    }
    note_zeros(end);
  }

  // The same of a place: a partition, or a volume's extents wherever they lie.
  void place_range(const Layer& layer, std::uint64_t offset, std::uint64_t length) {
    if (!layer.volume) {
      disk_range(layer.disk, layer.offset.value() + offset, length);
      return;
    }
    const VolumeGroup& group = after_.group_of(layer);
    const std::uint64_t unit = group.open.group.extent_size;
    const std::uint64_t first = offset / unit;
    const std::uint64_t last = ceil_div(offset + length, unit);
    for (const lvm::Segment& segment : after_.volume_of(layer).segments) {
      if (!segment.plain()) continue;
      const std::uint64_t stripes = segment.stripes.size();
      const std::uint64_t from = std::max(first, segment.start) - segment.start;
      const std::uint64_t to =
          std::min(last, segment.start + segment.count) - std::min(last, segment.start);
      if (from >= to) continue;
      for (const lvm::Stripe& stripe : segment.stripes) {
        const Layer* device = group.devices[stripe.pv];
        if (device == nullptr) continue;
        disk_range(device->disk,
                   device->offset.value() + group.open.group.pvs[stripe.pv].data_start +
                       (stripe.extent + from / stripes) * unit,
                   (ceil_div(to, stripes) - from / stripes) * unit);
      }
    }
  }

 private:
  const Guest& after_;
  FileSet& files_;
};

bool changes_inside(const Plan& plan, const LayerId& where) {
  return plan.has<step::GrowContent>(where) || plan.has<step::GrowPhysicalVolume>(where);
}

}  // namespace

void note_assigned_ranges(const Guest& before, const Guest& after, const Plan& plan,
                          FileSet& files) {
  Notes notes(after, files);
  for (std::size_t i = 0; i < before.disks().size(); ++i)
    if (!before.disks()[i].added && after.disks()[i].size() > before.disks()[i].size())
      notes.disk_range(i, 0, head_of_disk);
  for (const Layer* old : before.layers()) {
    const Layer* now = after.find(old->id);
    if (now == nullptr || now->size <= old->size || changes_inside(plan, old->id) ||
        old->content.kind == ContentKind::logical_partitions)
      continue;
    const std::uint64_t size = old->size.value();
    notes.place_range(*now, 0, std::min(size, head_of_content));
    notes.place_range(*now, size, now->size.value() - size);
  }
}

}  // namespace jh
