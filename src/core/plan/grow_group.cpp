#include "core/plan/grow_group.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/lvm/grow.h"
#include "core/plan/commands.h"
#include "core/plan/content.h"

namespace jh {

// A volume that something stands on is as large as its own group has made it by then.
Bytes GrowContext::reach_in_place(const Layer& device) const {
  return device.lies_on_disk() ? disks[device.disk].reach_in_place(device) : promised(device);
}

Bytes GrowContext::reach(const Layer& device) const {
  return device.lies_on_disk() ? disks[device.disk].reach(device) : promised(device);
}

void GrowContext::promise(const Layer& device, Bytes size) {
  if (device.lies_on_disk()) disks[device.disk].promise(device, size);
}

Bytes GrowContext::promised(const Layer& device) const {
  if (device.lies_on_disk()) return disks[device.disk].promised(device);
  const auto found = served.find(&device);
  return found == served.end() ? device.size : found->second;
}

std::size_t GroupGrowth::storey() const {
  std::size_t deepest = 0;
  for (const Layer* device : group_->devices)
    if (device != nullptr) deepest = std::max(deepest, device->storey);
  return deepest;
}

// What is asked for by size needs so much below; a share of the room, or the rest, all there is.
// The last layer that it stands on, and that lies on no disk of its own, gets it.
std::vector<std::pair<const Layer*, Amount>> GroupGrowth::needs_below() const {
  std::size_t pv = group_->devices.size();
  while (pv > 0 && (group_->devices[pv - 1] == nullptr || group_->devices[pv - 1]->lies_on_disk()))
    --pv;
  if (pv == 0) return {};
  const Layer* device = group_->devices[pv - 1];
  if (turn() != Amount::Kind::size) return {{device, Amount{}}};
  if (lacking() == 0) return {};
  const Bytes needed = needed_size(pv - 1, Bytes(INT64_MAX));
  return {{device, Amount{Amount::Kind::size, needed - device->size, 0}}};
}

void GroupGrowth::add_below(const Layer& volume, const Amount& amount) {
  const auto known = std::find_if(volumes_.begin(), volumes_.end(), [&](const VolumeTarget& other) {
    return other.volume == &volume;
  });
  if (known == volumes_.end()) volumes_.push_back({&volume, amount, false, true, 0, 0});
}

void GroupGrowth::add_volume(const Layer& volume, const Amount& amount,
                             const std::string& written) {
  for (const VolumeTarget& other : volumes_)
    if (other.volume == &volume)
      wrong_usage(fmt::format("{} is named twice", written), "name each target once");
  std::size_t pv = 0;
  volumes_.push_back({&volume, amount, true, guest_->group_on(volume, pv) != nullptr, 0, 0});
}

void GroupGrowth::add_device(const Layer& device, const Amount& amount,
                             const std::string& written) {
  if (amount.kind != Amount::Kind::rest)
    unsupported("a physical volume takes all the room there is", {}, "write --give " + written);
  device_targets_.push_back(&device);
}

void GroupGrowth::check() const {
  const auto blockers = group_->open.blockers();
  if (!blockers.empty()) throw blockers.front();
  for (const VolumeTarget& target : volumes_) {
    const Layer& layer = *target.volume;
    const lvm::Volume& volume = guest_->volume_of(layer);
    const std::string name = guest_->name_of(layer);
    const char* next = "it is kept as it is; make it larger from inside the guest";
    if (!volume.plain())
      unsupported(fmt::format("{} is a {} volume, which is left alone", name, volume.kind), "LVM",
                  next);
    if (!volume.used_by.empty())
      unsupported(fmt::format("{} is what volume {} is built on", name, volume.used_by), "LVM",
                  next);
    if (!volume.visible)
      unsupported(fmt::format("{} is an internal volume of the group", name), "LVM", next);
    if (!layer.window)
      refuse(fmt::format("{} lies on a disk that is not there", name), "LVM",
             "name all disks of the guest in one command");
    if (!layer.content.blockers.empty()) throw layer.content.blockers.front();
  }
}

Amount::Kind GroupGrowth::turn() const {
  const auto any = [&](Amount::Kind kind) {
    return std::any_of(volumes_.begin(), volumes_.end(),
                       [&](const VolumeTarget& target) { return target.amount.kind == kind; });
  };
  if (!device_targets_.empty() || any(Amount::Kind::rest)) return Amount::Kind::rest;
  return any(Amount::Kind::percent) ? Amount::Kind::percent : Amount::Kind::size;
}

bool GroupGrowth::has_sizes() const {
  return std::any_of(volumes_.begin(), volumes_.end(), [](const VolumeTarget& target) {
    return target.amount.kind == Amount::Kind::size;
  });
}

bool GroupGrowth::could_use(const GrowContext& scene, std::size_t disk) const {
  const DiskGrowth larger(*guest_, disk, guest_->disks()[disk].size() + 1_GiB,
                          scene.request.allow_move);
  for (std::size_t pv = 0; pv < group_->devices.size(); ++pv)
    if (group_->devices[pv]->disk == disk && group_->devices[pv]->lies_on_disk() &&
        gains(pv, larger.reach(*group_->devices[pv])))
      return true;
  return false;
}

// In extents that the volume can take: a size is rounded up, a share down. The rest is not known
// before all others have got theirs: nothing.
std::uint64_t GroupGrowth::wanted(const VolumeTarget& target) const {
  const std::uint64_t step = lvm::step_of(guest_->volume_of(*target.volume));
  const Amount& amount = target.amount;
  if (amount.kind == Amount::Kind::size)
    return round_up(ceil_div((amount.size - there_for(target)).value(), facts().extent_size), step);
  return amount.kind == Amount::Kind::percent ? round_down(part_of(amount, room_), step) : 0;
}

// What the volume has already, and its content does not use yet, of a size that was asked for.
Bytes GroupGrowth::there_for(const VolumeTarget& target) const {
  const Layer& layer = *target.volume;
  if (target.carries_layers) return Bytes(0);
  const Bytes behind = layer.size - std::min(layer.size, content_size(layer));
  return std::min(behind, target.amount.size);
}

// What it has free, and what its physical volumes could take.
std::uint64_t GroupGrowth::whole_room(const GrowContext& scene) const {
  std::uint64_t room = planned_.group.free_extents();
  for (std::size_t pv = 0; pv < group_->devices.size(); ++pv) {
    const Layer& layer = *group_->devices[pv];
    const Bytes reach = scene.reach(layer);
    if (gains(pv, reach))
      room += lvm::extents_of(planned_, pv, reach.value()) - planned_.group.pvs[pv].extents;
  }
  return room;
}

// How many extents the group, as planned, is short of for what was asked for, but for the rest.
std::uint64_t GroupGrowth::lacking() const {
  lvm::Group trial = planned_.group;
  std::uint64_t missing = 0;
  for (const VolumeTarget& target : volumes_) {
    const std::uint64_t extents = wanted(target);
    if (extents == 0) continue;
    const std::string& name = guest_->volume_of(*target.volume).name;
    const auto additions = lvm::allocate(trial, *trial.find(name), extents);
    missing += extents - lvm::total(additions);
    lvm::extend_volume(trial, name, additions);
  }
  return missing;
}

bool GroupGrowth::gains(std::size_t pv, Bytes size) const {
  const Layer& layer = *group_->devices[pv];
  const Disk& disk = guest_->disks()[layer.disk];
  if (layer.lies_on_disk() && layer.partition && !disk.table->facts().blockers.empty())
    return false;
  // A physical volume may be smaller than its place.
  return size >= layer.size &&
         lvm::extents_of(planned_, pv, size.value()) > planned_.group.pvs[pv].extents;
}

void GroupGrowth::grow_device(GrowContext& scene, std::size_t pv, Bytes size) {
  const Layer& layer = *group_->devices[pv];
  scene.promise(layer, size);
  lvm::set_device_size(planned_, pv, scene.promised(layer).value());
  if (std::find(grown_.begin(), grown_.end(), pv) == grown_.end()) grown_.push_back(pv);
}

bool GroupGrowth::is_target(const Layer& device) const {
  return std::find(device_targets_.begin(), device_targets_.end(), &device) !=
         device_targets_.end();
}

// All that they can take; or, where others want room of the same disks, no more than what lacks.
void GroupGrowth::grow_devices(GrowContext& scene, bool by_moves, bool frugal) {
  // What stands last has to push the least.
  for (std::size_t pv = group_->devices.size(); pv-- > 0;) {
    const Layer& layer = *group_->devices[pv];
    if (!device_targets_.empty() && volumes_.empty() && !is_target(layer)) continue;
    if (frugal && lacking() == 0) return;
    Bytes reach = by_moves ? scene.reach(layer) : scene.reach_in_place(layer);
    if (frugal) reach = needed_size(pv, reach);
    if (gains(pv, reach)) grow_device(scene, pv, reach);
  }
}

// The smallest size of a physical volume, in whole MiB, with the extents that lack.
Bytes GroupGrowth::needed_size(std::size_t pv, Bytes reach) const {
  const std::uint64_t wanted = planned_.group.pvs[pv].extents + lacking();
  Bytes size = group_->devices[pv]->size;
  while (size < reach && lvm::extents_of(planned_, pv, size.value()) < wanted) {
    const std::uint64_t short_of = wanted - lvm::extents_of(planned_, pv, size.value());
    size = Bytes(round_up(size.value() + short_of * facts().extent_size, partition_alignment));
  }
  return std::min(size, reach);
}

void GroupGrowth::find_room(GrowContext& scene) {
  const GrowRequest& request = scene.request;
  const bool has_new_disks = !request.add_disks.empty() || !scene.blank.empty();
  const bool makes_new = has_new_disks || request.new_partition;
  const bool takes_rest = turn() == Amount::Kind::rest;
  const bool shares_disks = request.allow_move && !scene.alone && !takes_rest;
  free_before_ = facts().free_extents();
  if (shares_disks) room_ = whole_room(scene);
  if ((!scene.grows() || !scene.alone) && !makes_new && turn() == Amount::Kind::size &&
      lacking() == 0)
    return;
  if (!request.new_partition && (!has_new_disks || scene.grows()))
    grow_devices(scene, false, shares_disks);
  if (has_new_disks) add_disks(scene);
  if (request.allow_move && !makes_new)
    grow_devices(scene, true, shares_disks || turn() == Amount::Kind::size);
  std::sort(grown_.begin(), grown_.end());
  if (!shares_disks) room_ = planned_.group.free_extents();
  if (volumes_.empty() && !request.new_partition) return;
  const bool short_of_room = scene.alone && (scene.grows() || free_before_ == 0 || has_sizes());
  if (request.new_partition || (fresh_.empty() && grown_.empty() && short_of_room))
    find_new_partition(scene);
  if (!shares_disks) room_ = planned_.group.free_extents();
}

void GroupGrowth::find_what_is_left(GrowContext& scene) {
  if (scene.alone || volumes_.empty() || !fresh_.empty() || !grown_.empty()) return;
  if (planned_.group.free_extents() != 0 && lacking() == 0) return;
  find_new_partition(scene);
  if (!fresh_.empty()) room_ = planned_.group.free_extents();
}

// On the disk that becomes larger, or the one with the largest room.
void GroupGrowth::find_new_partition(GrowContext& scene) {
  if (Guest::lies_deeper(*group_)) return;  // share() says what there is
  const bool must = scene.request.new_partition || (scene.grows() && scene.alone);
  std::optional<Error> why;
  std::optional<FreshDevice> best;
  for (std::size_t i = 0; i < guest_->disks().size(); ++i) {
    const Disk& disk = guest_->disks()[i];
    if ((scene.grows() && i != *scene.resized) ||
        (scene.request.disk_chosen && i != scene.request.disk) || !disk.table)
      continue;
    check_table(disk);
    try {
      const NewPartition fresh = scene.disks[i].place_new();
      const Bytes size = to_bytes(fresh.end - fresh.first, disk.table->facts().sector_size);
      if (lvm::new_extents(planned_, size.value()) == 0 || (best && size <= best->size)) continue;
      best = FreshDevice{i, fresh, size, false};
    } catch (const Error& error) {
      if (error.status() != Status::refused) throw;
      why = error.with_context(disk.path);
    }
  }
  if (!best) {
    if (!must) return;  // share() says what there is
    if (why) throw *why;
    refuse("the new room is too small for a physical volume", "group " + facts().name,
           "make the disk larger (--by SIZE)");
  }
  if (guest_->lists_lvm_devices() && !scene.request.new_partition)
    refuse(
        "a new partition would be needed, and the guest would ignore it: it uses only the "
        "LVM devices on its own list (/etc/lvm/devices/system.devices)",
        guest_->disks()[best->disk].path,
        "put the new one on that list afterwards, and ask for it with --new-partition");
  scene.disks[best->disk].promise(best->partition);
  use(scene, *best);
}

void GroupGrowth::use(GrowContext& scene, const FreshDevice& fresh) {
  fresh_.push_back(fresh);
  lvm::plan_device(planned_, fresh.size.value());
  if (guest_->lists_lvm_devices())
    scene.plan.remains.push_back(fmt::format(
        "put {} on the guest's list of LVM devices (/etc/lvm/devices/system.devices); until then "
        "it does not find all of group {}",
        partition_name(*guest_, fresh.disk, fresh.partition.number), facts().name));
}

void GroupGrowth::add_disks(GrowContext& scene) {
  for (std::size_t i = 0; i < guest_->disks().size(); ++i) {
    const Disk& disk = guest_->disks()[i];
    if (!disk.added && std::find(scene.blank.begin(), scene.blank.end(), i) == scene.blank.end())
      continue;
    const NewPartition partition =
        only_partition(table_kind_of_new(*guest_, disk), disk.sector_size, disk.size());
    use(scene, {i, partition, to_bytes(partition.end - partition.first, disk.sector_size), true});
  }
}

void GroupGrowth::share(GrowContext& scene) {
  std::vector<std::size_t> order;
  for (const Amount::Kind kind : {Amount::Kind::size, Amount::Kind::percent, Amount::Kind::rest})
    for (std::size_t i = 0; i < volumes_.size(); ++i)
      if (volumes_[i].amount.kind == kind) order.push_back(i);
  if (order.size() > 1 && volumes_[order[order.size() - 2]].amount.kind == Amount::Kind::rest)
    wrong_usage("only one target can take the rest", "give the others a size or a percentage");
  for (const std::size_t index : order) serve(scene, index);
}

void GroupGrowth::serve(GrowContext& scene, std::size_t index) {
  VolumeTarget& target = volumes_[index];
  const Amount& amount = target.amount;
  const std::string name = guest_->volume_of(*target.volume).name;
  const lvm::Volume volume = *planned_.group.find(name);
  const std::uint64_t step = lvm::step_of(volume);
  const std::uint64_t extents =
      amount.kind == Amount::Kind::rest ? round_down(lvm::most_extents, step) : wanted(target);
  const auto additions = lvm::allocate(planned_.group, volume, extents);
  const std::uint64_t got = lvm::total(additions);
  if (got < extents && amount.kind != Amount::Kind::rest)
    refuse_amount(scene, target, extents, got);
  if (got == 0 && target.asked && content_size(*target.volume) >= target.volume->size &&
      (volumes_.size() > 1 || !scene.alone))
    refuse(fmt::format("nothing is left for {}", guest_->best_name(*target.volume)), {},
           "give the others less, or make the disk larger");
  const Bytes exact =
      group_->bytes(got) + (amount.kind == Amount::Kind::size ? there_for(target) : Bytes(0));
  if (amount.kind == Amount::Kind::size && exact != amount.size && !target.carries_layers)
    scene.plan.notes.push_back(
        fmt::format("{} gets {} instead of {}: whole {}of {}", guest_->best_name(*target.volume),
                    spelled_out(exact), human(amount.size),
                    step == 1 ? "extents " : fmt::format("rows of {} extents ", step),
                    human(Bytes(facts().extent_size))));
  target.extents = got;
  target.pieces = additions.size();
  served_.push_back(index);
  scene.served[target.volume] = target.volume->size + group_->bytes(got);
  lvm::extend_volume(planned_.group, name, additions);
}

void GroupGrowth::refuse_amount(const GrowContext& scene, const VolumeTarget& target,
                                std::uint64_t wanted, std::uint64_t got) const {
  const std::string name = guest_->best_name(*target.volume);
  const std::string what = fmt::format("{} cannot get {}: that takes {} extents of {}, and ", name,
                                       human(group_->bytes(wanted)), grouped(wanted),
                                       human(Bytes(facts().extent_size))) +
                           (got == 0 ? std::string("none is free")
                                     : fmt::format("there {} {}: {}", got == 1 ? "is" : "are",
                                                   grouped(got), spelled_out(group_->bytes(got))));
  Advice next = got == 0 ? "make the disk larger:\n  " + command_by_10(scene.request)
                         : "take what there is:\n  " + command_with(scene.request, name + "=rest");
  for (const Layer* device : group_->devices)
    if (!scene.request.allow_move && !scene.request.running && device->lies_on_disk() &&
        could_grow_by_moves(*guest_, *device, scene.disks[device->disk].size())) {
      GrowRequest moving = scene.request;
      moving.allow_move = true;
      next =
          fmt::format("let what stands behind {} move to the end:\n  ", guest_->name_of(*device)) +
          command_with(moving, "") + "\nor " + next;
      break;
    }
  const Error refused(Status::refused, what, "group " + facts().name, next);
  throw got == 0 ? refused.with_reason(Reason::no_room) : refused;
}

TableKind table_kind_of_new(const Guest& guest, const Disk& disk) {
  const Disk& first = guest.disks().front();
  const bool mbr = first.table && first.table->facts().kind == TableKind::mbr;
  return mbr && disk.size() <= 2048_GiB ? TableKind::mbr : TableKind::gpt;
}

Suggestion command_by_10(const GrowRequest& request) {
  if (request.running) return command_with(request, "").because("once the disk is larger");
  Suggestion command = suggest("grow", request.images).with("by", "10GiB");
  if (request.allow_move) command.with("allow-move");
  for (const Give& give : request.gives) command.with("give", give.written);
  return command;
}

}  // namespace jh
