#include "core/plan/plan.h"

namespace jh {

void Plan::resolve(Layout before) {
  after = std::move(before);
  for (Step& step : steps) {
    const SizeChange change = apply(step, after);
    step.from = change.from;
    step.to = change.to;
  }
}

bool Plan::touches(std::size_t disk) const {
  return std::any_of(steps.begin(), steps.end(),
                     [&](const Step& step) { return step.layer.disk == disk; });
}

bool Plan::changes(const VolumeGroup& group) const {
  return std::find(groups.begin(), groups.end(), group.open.group.name) != groups.end();
}

void Plan::add_group(const Guest& guest, const VolumeGroup& group) {
  if (!changes(group)) groups.push_back(group.open.group.name);
  for (const Layer* device : group.devices)
    if (device != nullptr && !device->id.volume.empty())
      add_group(guest, guest.group_of(*guest.find(LayerId(device->id.disk, device->id.volume))));
}

bool Plan::lets_go() const {
  return has<step::ShrinkContent>() || has<step::ShrinkVolume>() || has<step::MoveExtents>() ||
         has<step::ShrinkDevice>() || has<step::RemoveDevice>() || has<step::ShrinkPartition>() ||
         has<step::MovePartition>() || has<step::MoveExtended>() || has<step::ShrinkContainer>();
}

bool Plan::moves_content(const LayerId& layer) const {
  return std::any_of(steps.begin(), steps.end(), [&](const Step& step) {
    if (!(step.layer == layer)) return false;
    const auto* shrinks = step.as<step::ShrinkContent>();
    return step.is<step::PrepareContent>() || (shrinks != nullptr && shrinks->moves_content);
  });
}

}  // namespace jh
