#include "core/carry/group_work.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/lvm/shrink.h"

namespace jh {

GroupWork::GroupWork(const VolumeGroup& known, const Guest& before, const Plan& plan,
                     std::uint64_t now, OpenDevice open)
    : known_(known), before_(before), plan_(plan), now_(now), open_device_(std::move(open)) {
  std::vector<Store*> stores;
  for (const Layer* device : known.devices) {
    devices_.push_back(open_device_(device->id));
    stores.push_back(devices_.back().get());
  }
  lvm::Groups found = lvm::find_groups(stores);
  ensure(found.groups.size() == 1 && found.groups.front().blockers().empty(),
         "the group is whole on the stages");
  group_ = std::make_unique<lvm::OpenGroup>(std::move(found.groups.front()));
}

std::unique_ptr<Store> GroupWork::open_volume(const LayerId& id) {
  auto store = lvm::open_volume(*group_, volume_of(id), "volume " + id.volume);
  ensure(store != nullptr, "the volume can be opened");
  return store;
}

void GroupWork::run(const Step& step, const step::GrowPhysicalVolume& work) {
  const std::size_t pv = device_of(step.layer);
  lvm::resize_device(*group_, pv, group_->members[pv]->store->size());
  ensure(group_->group.pvs[pv].extents == work.extents, "the physical volume grows as planned");
}

void GroupWork::run(const Step& step, const step::AddDevice&) {
  devices_.push_back(open_device_(step.layer));
  lvm::make_device(*group_, *devices_.back(), random_letters(lvm::id_length));
}

void GroupWork::run(const Step& step, const step::ShrinkDevice& work) {
  const std::size_t pv = device_of(step.layer);
  lvm::resize_device(*group_, pv, work.place_size.value());
  ensure(group_->group.pvs[pv].extents == work.extents, "the physical volume shrinks as planned");
}

void GroupWork::run(const Step& step, const step::RemoveDevice&) {
  lvm::remove_device(*group_, device_of(step.layer));
}

void GroupWork::run(const Step& step, const step::MoveExtents& work, Progress& progress) {
  std::vector<std::size_t> leaving;
  plan_.for_each<step::RemoveDevice>([&](const Step& other, const step::RemoveDevice&) {
    std::size_t pv = 0;
    if (before_.group_on(*before_.find(other.layer), pv) == &known_)
      leaving.push_back(device_of(other.layer));
  });
  const auto moves = lvm::plan_moves(group_->group, device_of(step.layer), work.first, leaving);
  lvm::move_extents(*group_, moves, progress);
}

void GroupWork::run(const Step& step, const step::GrowVolume& work) {
  const lvm::Volume& volume = volume_of(step.layer);
  const std::string name = volume.name;
  const auto additions = lvm::allocate(group_->group, volume, work.extents);
  ensure(lvm::total(additions) == work.extents, "the volume gets the extents it was promised");
  lvm::extend_volume(group_->group, name, additions);
}

void GroupWork::run(const Step& step, const step::ShrinkVolume& work) {
  lvm::reduce_volume(group_->group, volume_of(step.layer).name, work.extents);
}

void GroupWork::run(const Step&, const step::CommitGroup&) {
  lvm::commit(*group_, fmt::format("juneheath {}: {}", plan_.command, plan_.target), now_);
}

const lvm::Volume& GroupWork::volume_of(const LayerId& id) const {
  const lvm::Volume* volume = group_->group.find(id.volume.substr(id.volume.rfind('/') + 1));
  ensure(volume != nullptr, "the volume is in the group");
  return *volume;
}

std::size_t GroupWork::device_of(const LayerId& id) const {
  const auto found = std::find_if(known_.devices.begin(), known_.devices.end(),
                                  [&](const Layer* device) { return device->id == id; });
  ensure(found != known_.devices.end(), "the physical volume is in the group");
  // By its identity: the group's list may have become shorter since.
  const std::string& own =
      known_.open.group.pvs[static_cast<std::size_t>(found - known_.devices.begin())].id;
  const auto& pvs = group_->group.pvs;
  const auto now = std::find_if(pvs.begin(), pvs.end(),
                                [&](const lvm::PhysicalVolume& pv) { return pv.id == own; });
  ensure(now != pvs.end(), "the physical volume is still in the group");
  return static_cast<std::size_t>(now - pvs.begin());
}

}  // namespace jh
