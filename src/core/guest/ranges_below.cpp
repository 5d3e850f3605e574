// Where the bytes of a layer lie on the disks, through everything that lies between.
#include <set>

#include "core/guest/guest.h"

namespace jh {

std::vector<std::size_t> Guest::disks_below(const Layer& layer) const {
  std::set<std::size_t> found;
  const std::function<void(const Layer&)> look = [&](const Layer& each) {
    if (each.is_inner()) {
      look(*find(each.id.outer()));
    } else if (!each.volume) {
      found.insert(each.disk);
    } else {
      for (const Layer* device : group_of(each).devices)
        if (device != nullptr) look(*device);
    }
  };
  look(layer);
  return {found.begin(), found.end()};
}

void Guest::for_each_disk_range(const Layer& layer, std::uint64_t offset, std::uint64_t length,
                                const DiskRange& visit) const {
  if (layer.is_inner()) {
    for_each_disk_range(*find(layer.id.outer()), layer.offset.value() + offset, length, visit);
    return;
  }
  if (!layer.volume) {
    visit(layer.disk, layer.offset.value() + offset, length);
    return;
  }
  const VolumeGroup& group = group_of(layer);
  const std::uint64_t unit = group.open.group.extent_size;
  for (const lvm::Segment& segment : volume_of(layer).segments) {
    if (!segment.plain()) continue;
    const std::uint64_t begin = segment.start * unit;
    std::uint64_t from = std::max(offset, begin) - begin;
    std::uint64_t to = std::min(offset + length, begin + segment.count * unit);
    if (to <= begin + from) continue;
    to -= begin;
    if (const std::uint64_t stripes = segment.stripes.size(); stripes > 1) {
      // Rows of whole extents.
      from = from / unit / stripes * unit;
      to = ceil_div(ceil_div(to, unit), stripes) * unit;
    }
    for (const lvm::Stripe& stripe : segment.stripes)
      if (const Layer* device = group.devices[stripe.pv]; device != nullptr)
        for_each_disk_range(
            *device, group.open.group.pvs[stripe.pv].data_start + stripe.extent * unit + from,
            to - from, visit);
  }
}

}  // namespace jh
