#include "core/plan/plan.h"

namespace jh {

bool Plan::touches(std::size_t disk) const {
  return std::any_of(steps.begin(), steps.end(),
                     [&](const Step& step) { return step.where.disk == disk; });
}

bool Plan::changes(const VolumeGroup& group) const {
  return std::find(groups.begin(), groups.end(), group.open.group.name) != groups.end();
}

Where where_is(const Guest& guest, const Place& place) {
  return {place.disk, place.partition ? place.partition->number : 0,
          place.volume ? guest.name_of(place) : std::string()};
}

const Place* place_at(const Guest& guest, const Where& where) {
  for (const Place* place : guest.places()) {
    if (!where.volume.empty()) {
      if (place->volume && guest.name_of(*place) == where.volume) return place;
    } else if (!place->volume && place->disk == where.disk &&
               (place->partition ? place->partition->number : 0) == where.partition) {
      return place;
    }
  }
  return nullptr;
}

bool Plan::lets_go() const {
  return has<step::ShrinkContent>() || has<step::ShrinkVolume>() || has<step::MoveExtents>() ||
         has<step::ShrinkDevice>() || has<step::RemoveDevice>() || has<step::ShrinkPartition>() ||
         has<step::MovePartition>() || has<step::MoveExtended>() || has<step::ShrinkContainer>();
}

bool Plan::moves_content(const Where& where) const {
  return std::any_of(steps.begin(), steps.end(), [&](const Step& step) {
    if (!(step.where == where)) return false;
    const auto* shrinks = step.as<step::ShrinkContent>();
    return step.is<step::PrepareContent>() || (shrinks != nullptr && shrinks->moves_content);
  });
}

}  // namespace jh
