#include "core/live/plan_live.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/live/volume_settings.h"
#include "core/plan/content.h"
#include "core/plan/grow.h"

namespace jh::live {
namespace {

constexpr std::uint64_t spare_memory = 64U << 20;  // that stays when swap is taken out of use

class LivePlanner {
 public:
  LivePlanner(const RunningSystem& system, Plan plan)
      : system_(system), guest_(system.guest()), plan_(std::move(plan)) {}

  Plan run() {
    for (std::size_t i = 0; i < guest_.disks().size(); ++i)
      if (touches_disk(i)) check_disk(i);
    for (const VolumeGroup& group : guest_.groups())
      if (plan_.changes(group)) check_group(group);
    for (const Step& step : plan_.steps) check_step(step);
    now_ = layout_of(guest_);
    add_partitions_to_tell();
    add_volumes_to_load();
    plan_.resolve(now_);
    return std::move(plan_);
  }

 private:
  bool touches_disk(std::size_t disk) const {
    if (plan_.touches(disk)) return true;
    for (const VolumeGroup& group : guest_.groups())
      if (plan_.changes(group))
        for (const Layer* device : group.devices)
          if (device != nullptr && device->disk == disk) return true;
    return std::any_of(plan_.steps.begin(), plan_.steps.end(), [&](const Step& step) {
      return step.layer.volume.empty() && step.layer.disk == disk;
    });
  }

  // The system's volume tools would not see what they are told to leave alone: the group would lack
  // a part at the next start.
  void check_is_seen(const KernelDisk& disk) const {
    constexpr std::uint64_t most = 1U << 20;
    KernelFacts& kernel = system_.kernel();
    const std::string settings = volume_settings(kernel);
    if (!filter_lets_in(settings, disk.path))
      refuse("the system's volume tools leave this disk alone, by their global_filter", disk.path,
             "let /etc/lvm/lvm.conf accept it first; then run this again");
    const bool has_list = kernel.read_text("/etc/lvm/devices/system.devices", most).has_value() &&
                          setting_of(settings, "use_devicesfile").value_or("1") != "0";
    if (has_list)
      refuse(
          "the system's volume tools know only the disks on their own list "
          "(/etc/lvm/devices/system.devices), and would not find the new one",
          disk.path,
          "make the disk a physical volume with the system's own tools, which put it on that "
          "list, and add it to the group with them; then run this without --add-disk");
  }

  void check_disk(std::size_t index) const {
    const KernelDisk& disk = system_.disk(index);
    if (guest_.disks()[index].added) return check_is_seen(disk);
    if (disk.read_only) refuse("the disk is read-only", disk.path, "let it be written to first");
    if (const std::string held = guest_.held_as_a_whole(index); !held.empty())
      refuse(held, disk.path, "name the device that is built of it, or change it from outside");
    if (disk.size != guest_.disks()[index].size().value())
      refuse("the disk's size changes at this moment", disk.path, "run it again");
    check_partitions(index);
  }

  // The kernel's partitions are the table's, or what those were before they grew.
  void check_partitions(std::size_t index) const {
    const Disk& disk = guest_.disks()[index];
    for (const Layer& layer : disk.layers) {
      if (!layer.partition || layer.partition->role == PartitionRole::extended) continue;
      const KernelPartition* known = system_.partition(index, layer.partition->number);
      if (known == nullptr) continue;
      if (known->start != layer.offset.value() || known->size > layer.size.value())
        refuse(fmt::format("the kernel has another partition {} than the table on disk",
                           layer.partition->number),
               disk.path, "somebody has changed the table: start the system anew first");
    }
  }

  void check_group(const VolumeGroup& group) const {
    const lvm::Group& facts = group.open.group;
    for (const Error& blocker : group.open.blockers()) {
      if (blocker.reason() != Reason::missing_part) throw blocker;
      refuse(blocker.what(), blocker.where(),
             "attach the disk that is missing, or let the system's own tools repair the group");
    }
    for (const Layer& layer : group.volumes) {
      const lvm::Volume& volume = guest_.volume_of(layer);
      const MappedDevice* device = system_.mapped(group, volume);
      if (device == nullptr || !volume.plain()) continue;
      const bool is_changed =
          plan_.has<step::GrowVolume>(layer.id) || device->size != layer.size.value();
      const std::vector<MapLine> present = system_.kernel().map_of(*device);
      // Another volume may well have snapshots, or be suspended; where it lies matters all the
      // same: what the metadata call free may be its room.
      const bool has_snapshots = !present.empty() && present.front().kind == "snapshot-origin";
      if (!is_changed && has_snapshots) continue;
      if (is_changed && device->suspended)
        refuse("a volume is suspended: something is at work on it, or was cut off",
               guest_.name_of(layer), "let the system's own tools resume it first");
      if (!begins_with(map_for(facts, volume, devices(group)), present))
        refuse("the kernel has the volume elsewhere than its group's metadata say",
               guest_.name_of(layer),
               "something is at work on it (a move, a snapshot): let it finish first");
    }
  }

  std::vector<DeviceNumber> devices(const VolumeGroup& group) const {
    const auto numbers = system_.devices_of(group);
    if (!numbers)
      refuse("the kernel does not know a physical volume of the group", group.open.group.name,
             "start the system anew, or let it look for its disks again");
    return *numbers;
  }

  void check_step(const Step& step) const {
    if (step.is<step::GrowVolume>()) {
      const Layer& layer = *guest_.find(step.layer);
      if (system_.mapped(guest_.group_of(layer), guest_.volume_of(layer)) == nullptr)
        refuse("the volume is not active", step.name, "activate it first");
    }
    if (!step.is<step::GrowContent>()) return;
    const Layer& layer = *guest_.find(step.layer);
    const Mount* mount = system_.mount_of(layer);
    if (mount != nullptr && mount->hidden)
      refuse("another filesystem is mounted over it at " + mount->point, step.name,
             "mount it at another place too, or unmount what lies over it");
    if (layer.content.moves_without_free()) {
      check_swap(layer);
    } else if (system_.mount_of(layer) == nullptr) {
      refuse(fmt::format("{} is not mounted", guest_.best_name(layer)), step.name,
             "mount it first: its driver makes it larger; or shut the system down, and grow its "
             "disk from outside");
    }
  }

  void check_swap(const Layer& layer) const {
    const SwapInUse* swap = system_.swap_of(layer);
    if (swap == nullptr) return;
    const std::uint64_t free = system_.kernel().memory_available();
    if (swap->used + spare_memory > free)
      refuse(fmt::format("swap would be out of use for a moment: {} of it are in use, {} of memory "
                         "must stay free, and only {} are free",
                         human(Bytes(swap->used)), human(Bytes(spare_memory)), human(Bytes(free))),
             swap->path, "end something that needs memory, or leave the swap area as it is");
  }

  // After the last step on the tables: every partition that the kernel has otherwise by then.
  void add_partitions_to_tell() {
    std::vector<Step> tell;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      if (!touches_disk(i)) continue;
      for (const Layer& layer : guest_.disks()[i].layers) {
        if (!layer.partition || layer.partition->role == PartitionRole::extended) continue;
        const std::uint32_t number = layer.partition->number;
        const LayerId id(i, {}, {number});
        const KernelPartition* known = system_.partition(i, number);
        const Bytes told(known == nullptr ? 0 : known->size);
        if (told == plan_.after.size_of_partition(id)) continue;
        now_.kernel[id] = told;
        tell.push_back({id, partition_name(guest_, i, number),
                        known == nullptr ? "tell the kernel of it" : "tell the kernel of its end",
                        step::TellPartition{known == nullptr}});
      }
    }
    plan_.for_each<step::CreatePartition>([&](const Step& step, const step::CreatePartition&) {
      tell.push_back({step.layer, step.name, "tell the kernel of it", step::TellPartition{true}});
    });
    const auto at = std::find_if(plan_.steps.begin(), plan_.steps.end(), [](const Step& step) {
      return !step.is<step::CreateDisk>() && !step.is<step::RepairTable>() &&
             !step.is<step::MoveSpare>() && !step.is<step::GrowPartition>() &&
             !step.is<step::CreatePartition>();
    });
    plan_.steps.insert(at, tell.begin(), tell.end());
  }

  // Before what is in it grows, after its group's metadata stand.
  void add_volumes_to_load() {
    for (const VolumeGroup& group : guest_.groups()) {
      if (!plan_.changes(group)) continue;
      std::vector<Step> load;
      for (const Layer& layer : group.volumes) {
        const MappedDevice* device = system_.mapped(group, guest_.volume_of(layer));
        if (device == nullptr || !guest_.volume_of(layer).plain()) continue;
        const LayerId where = layer.id;
        const Layout::GroupPlace& planned = plan_.after.groups.at(group.open.group.name);
        if (Bytes(device->size) == planned.bytes(planned.volumes.at(where.volume))) continue;
        now_.kernel[where] = Bytes(device->size);
        load.push_back(
            {where, guest_.name_of(layer), "give the kernel its new map", step::LoadVolume{}});
      }
      const auto& name = group.open.group.name;
      auto at = std::find_if(plan_.steps.begin(), plan_.steps.end(),
                             [&](const Step& step) { return step.is<step::GrowContent>(); });
      for (auto it = plan_.steps.begin(); it != plan_.steps.end(); ++it)
        if (const auto* work = it->as<step::CommitGroup>(); work != nullptr && work->group == name)
          at = std::next(it);
      plan_.steps.insert(at, load.begin(), load.end());
    }
  }

  const RunningSystem& system_;
  const Guest& guest_;
  Plan plan_;
  Layout now_;  // with what the kernel takes for true
};

void check_system(const RunningSystem& system) {
  const std::string lacks = system.kernel().lacks_rights();
  if (!lacks.empty())
    refuse("a running system is changed by its administrator only: " + lacks, {},
           "run it as root, outside of a container");
  for (const Mount& mount : system.mounts())
    if (mount.point == "/" && mount.read_only && !mount.hidden)
      refuse(
          "the root filesystem is mounted read-only: this system is not in order, or not "
          "started yet",
          mount.source, "let it start fully, or look into its log; then run this again");
}

}  // namespace

Plan plan_live(const RunningSystem& system, const GrowRequest& request) {
  check_system(system);
  return LivePlanner(system, plan_growth(system.guest(), request)).run();
}

std::vector<std::string> not_told(const RunningSystem& system) {
  std::vector<std::string> words;
  const Guest& guest = system.guest();
  for (const Layer* layer : guest.layers()) {
    std::optional<std::uint64_t> known;
    if (layer->volume) {
      const MappedDevice* device = system.mapped(guest.group_of(*layer), guest.volume_of(*layer));
      if (device != nullptr) known = device->size;
    } else if (layer->partition && layer->partition->role != PartitionRole::extended) {
      const KernelPartition* partition = system.partition(layer->disk, layer->partition->number);
      known = partition == nullptr ? 0 : partition->size;
    }
    if (known && *known < layer->size.value())
      words.push_back(fmt::format("the kernel knows {} of the {} that {} has on disk",
                                  human(Bytes(*known)), human(layer->size), guest.name_of(*layer)));
  }
  return words;
}

}  // namespace jh::live
