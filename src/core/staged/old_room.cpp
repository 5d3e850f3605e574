#include "core/staged/old_room.h"

namespace jh {

std::map<std::string, Ranges> unreferenced_places(const Guest& guest, UnusedWhere where) {
  std::map<std::string, Ranges> layers;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    if (guest.disks()[i].added) continue;
    Container& container = *guest.disks()[i].container;
    for (const UnusedRange& range : find_unused(guest, i, where).ranges)
      for (std::uint64_t at = range.start; at < range.end;) {
        const Extent extent = container.extent_at(at, range.end - at);
        if (extent.kind == Extent::Kind::data && !extent.shared)
          add_range(layers[extent.store->name()], extent.at, extent.at + extent.length);
        at += extent.length;
      }
  }
  return layers;
}

}  // namespace jh
