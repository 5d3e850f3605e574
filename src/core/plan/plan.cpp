#include "core/plan/plan.h"

#include <algorithm>

namespace jh {

bool Plan::touches(std::size_t disk) const {
  return std::any_of(steps.begin(), steps.end(),
                     [&](const Step& step) { return step.disk == disk; });
}

bool Plan::has(StepKind kind, const Where& where) const {
  return std::any_of(steps.begin(), steps.end(),
                     [&](const Step& step) { return step.kind == kind && step.where() == where; });
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
  return std::any_of(steps.begin(), steps.end(), [](const Step& step) {
    switch (step.kind) {
      case StepKind::shrink_content:
      case StepKind::shrink_volume:
      case StepKind::move_extents:
      case StepKind::shrink_device:
      case StepKind::remove_device:
      case StepKind::shrink_partition:
      case StepKind::move_partition:
      case StepKind::move_chain:
      case StepKind::shrink_container:
        return true;
      default:
        return false;
    }
  });
}

bool Plan::moves_content(const Where& where) const {
  return std::any_of(steps.begin(), steps.end(), [&](const Step& step) {
    return step.where() == where && (step.kind == StepKind::prepare_content || step.moves_content);
  });
}

}  // namespace jh
