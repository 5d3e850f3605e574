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

  // The same of a layer, wherever its bytes lie.
  void place_range(const Layer& layer, std::uint64_t offset, std::uint64_t length) {
    after_.for_each_disk_range(layer, offset, length,
                               [&](std::size_t disk, std::uint64_t at, std::uint64_t size) {
                                 disk_range(disk, at, size);
                               });
  }

 private:
  const Guest& after_;
  FileSet& files_;
};

bool changes_inside(const Plan& plan, const LayerId& where) {
  // Or the disk that is kept in it has given the room on.
  const bool handed_on = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
    return step.is<step::GrowPartition>() && step.layer.outer() == where && !where.is_disk();
  });
  return handed_on || plan.has<step::GrowContent>(where) ||
         plan.has<step::GrowPhysicalVolume>(where);
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
