#include "core/staged/old_room.h"

namespace jh {

std::map<std::string, Ranges> unreferenced_places(const Guest& guest, UnusedWhere where) {
  std::map<std::string, Ranges> places;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    if (guest.disks()[i].added) continue;
    Container& container = *guest.disks()[i].container;
    for (const UnusedRange& range : find_unused(guest, i, where).ranges)
      for (std::uint64_t at = range.start; at < range.end;) {
        const Piece piece = container.piece_at(at, range.end - at);
        if (piece.kind == Piece::Kind::data)
          add_range(places[piece.store->name()], piece.at, piece.at + piece.length);
        at += piece.length;
      }
  }
  return places;
}

}  // namespace jh
