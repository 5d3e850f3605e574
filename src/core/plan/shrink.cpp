#include "core/plan/shrink.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/lvm/shrink.h"
#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/floors.h"
#include "core/plan/partition_layout.h"
#include "core/plan/shrink_around.h"
#include "core/plan/shrink_inside.h"

namespace jh {
namespace {

// As they lie on the disks.
struct ByOffset {
  bool operator()(const Layer* a, const Layer* b) const {
    return std::pair(a->disk, a->offset) < std::pair(b->disk, b->offset);
  }
};

class Shrinker {
 public:
  Shrinker(const Guest& guest, const ShrinkRequest& request)
      : guest_(guest), request_(request), floors_(guest) {}

  Plan run() {
    plan_.command = "shrink";
    check_awake(guest_);
    for (std::size_t i = 0; i < guest_.disks().size(); ++i)
      if (may_touch(i)) check_claims(guest_, i);
    for (const Disk& disk : guest_.disks())
      plan_.disks.push_back({disk.path, disk.size(), disk.size()});
    if (!request_.names_size() && request_.takes.empty() && !request_.remove_disk &&
        !request_.take_nothing)
      wrong_usage("nothing is said to become smaller",
                  "name the disk's new size (--to, --by), or what to take from (--take)");
    resolve_disk_size();
    check_table(disk());
    take_all();
    if (request_.allow_move && disk().table)
      pack_disk();
    else
      cut_disk();
    remove_disk();
    add_steps();
    for (std::size_t i = 0; i < guest_.disks().size(); ++i)
      if (plan_.touches(i)) check_table(guest_.disks()[i]);
    if (plan_.steps.empty())
      refuse("there is nothing to do: it is no larger than that already", disk().path,
             "see the floors in: " + suggest("survey", {disk().path}));
    plan_.resolve(layout_of(guest_));
    plan_.bytes_to_write = cost_.through_ledger * 3 + cost_.direct * 2 + (1U << 20);
    plan_.of_content = cost_.direct * 2;
    return plan_;
  }

 private:
  const Disk& disk() const { return guest_.disks()[disk_index_]; }

  // The disk that is named, and those that have a part in what gives something up.
  bool may_touch(std::size_t index) const {
    return request_.names_size() || request_.remove_disk || takes_from(index);
  }
  bool takes_from(std::size_t index) const {
    return std::any_of(request_.takes.begin(), request_.takes.end(), [&](const Give& take) {
      const Layer* layer = find_target(guest_, take.target);
      if (layer == nullptr) return false;
      if (!layer->volume) return layer->disk == index;
      const auto& devices = guest_.group_of(*layer).devices;
      return std::any_of(devices.begin(), devices.end(), [&](const Layer* device) {
        return device != nullptr && device->disk == index;
      });
    });
  }

  void resolve_disk_size() {
    disk_index_ = request_.disk;
    if (!request_.names_size() && !request_.take_nothing) return;
    if (!request_.disk_chosen && guest_.disks().size() > 1) {
      Advice commands;
      for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
        ShrinkRequest chosen = request_;
        chosen.disk = i;
        chosen.disk_chosen = true;
        commands += "\n  " + command_with(chosen, "");
      }
      refuse("the guest has several disks", {}, "say which one becomes smaller:" + commands);
    }
    LayerFloor floor = floors_.of_disk(disk_index_);
    const bool packs = request_.allow_move && disk().table != nullptr;
    if (packs) floor = packed_floor(guest_, floors_, disk_index_);
    if (request_.take_nothing) floor = whole_floor();
    note_further(floor);
    Bytes wanted = std::min(disk().size(), floor.size + request_.margin);
    if (request_.to) wanted = *request_.to;
    if (request_.by) {
      if (*request_.by >= disk().size())
        refuse(fmt::format("the disk has only {}", spelled_out(disk().size())), disk().path,
               "take less");
      wanted = disk().size() - *request_.by;
    }
    if (wanted > disk().size())
      refuse(fmt::format("the disk has only {}; {} would be more", spelled_out(disk().size()),
                         human(wanted)),
             disk().path,
             "to make it larger: " + suggest("grow", {disk().path}).with("to", paste_size(wanted)));
    std::uint64_t unit = disk().container->size_unit().value();
    if (disk().table) unit = std::max<std::uint64_t>(unit, disk().table->facts().sector_size);
    new_size_ = Bytes(round_up(wanted.value(), unit));
    if (*new_size_ != wanted)
      plan_.notes.push_back(
          fmt::format("a disk has whole sectors: it keeps {} bytes more than you "
                      "asked for",
                      (*new_size_ - wanted).value()));
    if (*new_size_ < floor.size)
      refuse(fmt::format("the disk cannot become as small as {}: its floor is {} ({})",
                         human(*new_size_), spelled_out(floor.size), floor.reason),
             disk().path,
             floor.size >= disk().size()
                 ? "it is at its floor already; see what stands at it:\n  " +
                       suggest("survey", {disk().path})
                 : "ask for no less:\n  " + with_size(floor.size));
    new_size_ = std::min(*new_size_, disk().size());
    plan_.disks[disk_index_].to = *new_size_;
  }

  // Every partition, and a disk without a table, stays as long as it is.
  LayerFloor whole_floor() const {
    if (!disk().table) return {disk().size(), "the whole disk is in use, without a table"};
    Sectors end = disk().table->facts().first_usable;
    std::string last = "the partition table";
    for (const Partition& partition : disk().table->facts().partitions)
      if (partition.end() > end) {
        end = partition.end();
        last = partition_name(guest_, disk_index_, partition.number) + " ends there";
      }
    return {disk_for(disk(), end), last};
  }

  // What --allow-move would reach, where that is less.
  void note_further(const LayerFloor& floor) {
    if (request_.allow_move || request_.take_nothing || !request_.to_floor || !disk().table) return;
    const LayerFloor packed = packed_floor(guest_, floors_, disk_index_);
    if (packed.size < floor.size)
      plan_.notes.push_back(
          fmt::format("with --allow-move, which lets partitions move to the "
                      "front, the disk could become {} instead of {}",
                      human(packed.size), human(floor.size)));
  }

  Suggestion with_size(Bytes size) const {
    ShrinkRequest other = request_;
    other.to = size;
    other.by.reset();
    other.to_floor = false;
    other.margin = Bytes(0);
    return command_with(other, "");
  }

  // What each target loses: all it can, a size, or a share of what it can.
  Bytes after_taking(const Give& take, Bytes present, Bytes floor, const std::string& name) {
    const Bytes spare = present > floor ? present - floor : Bytes(0);
    if (spare == Bytes(0))
      refuse(fmt::format("{} is at its floor already ({})", name, human(floor)), {},
             "remove something inside the guest first");
    Bytes loses = spare;
    if (take.amount.kind == Amount::Kind::size) loses = take.amount.size;
    if (take.amount.kind == Amount::Kind::percent)
      loses = Bytes(part_of(take.amount, spare.value()));
    if (loses == Bytes(0)) wrong_usage("an amount of nothing", "take a size greater than zero");
    if (loses > spare)
      refuse(fmt::format("{} cannot lose {}: it can lose {}", name, spelled_out(loses),
                         spelled_out(spare)),
             {}, "take what it can lose:\n  " + command_with(request_, name));
    return present - loses;
  }

  void take_all() {
    for (const Give& take : request_.takes) {
      const Layer* layer = find_target(guest_, take.target);
      if (layer == nullptr) wrong_usage("nothing cannot become smaller", "name a target");
      check_lies_outside(guest_, *layer);
      const std::string name = guest_.best_name(*layer);
      if (std::count_if(request_.takes.begin(), request_.takes.end(), [&](const Give& other) {
            return find_target(guest_, other.target) == layer;
          }) > 1)
        wrong_usage(fmt::format("{} is named twice", take.target), "name each target once");
      std::size_t pv = 0;
      if (layer->volume) {
        const VolumeGroup& group = guest_.group_of(*layer);
        if (layer->window)
          if (auto why = no_shrinking(*layer)) throw why->with_context(name);
        const std::uint64_t floor = floors_.of_volume(*layer);
        const Bytes left = after_taking(take, layer->size, group.bytes(floor), name);
        const std::uint64_t extents =
            lvm::whole_size(guest_.volume_of(*layer),
                            std::max(floor, ceil_div(left.value(), group.open.group.extent_size)));
        group_change(group).volumes[layer->volume->volume] = extents;
        if (group.bytes(extents) != left)
          plan_.notes.push_back(fmt::format("{} keeps {} more: it has whole extents", name,
                                            human(group.bytes(extents) - left)));
      } else if (guest_.group_on(*layer, pv) != nullptr) {
        unsupported(name + " is a physical volume", {},
                    "take from a volume of its group, or make its disk smaller (--to)");
      } else {
        if (auto why = no_shrinking(*layer)) throw why->with_context(name);
        const Bytes present = content_size(*layer);
        sizes_[layer] = after_taking(take, present, floors_.of(*layer).size, name);
      }
    }
  }

  GroupChange& group_change(const VolumeGroup& group) {
    GroupChange& change = groups_[&group];
    change.group = &group;
    return change;
  }

  void limit(const Layer& layer, Bytes size) {
    const auto known = sizes_.find(&layer);
    sizes_[&layer] = known == sizes_.end() ? size : std::min(known->second, size);
  }

  // Everything that reaches past the new end must end before it.
  void cut_disk() {
    if (!new_size_ || *new_size_ >= disk().size()) return;
    if (!disk().table) {
      limit(disk().layers.front(), *new_size_);
      return;
    }
    const Sectors usable = disk().table->usable_end_on(*new_size_);
    const std::uint32_t sector = disk().table->facts().sector_size;
    for (const Layer& layer : disk().layers) {
      if (!layer.partition || layer.partition->end() <= usable) continue;
      if (layer.partition->role == PartitionRole::extended) continue;  // follows what is in it
      if (layer.partition->first >= usable)
        refuse(fmt::format("{} ({}) lies wholly behind the new end", guest_.name_of(layer),
                           layer.content.name),
               disk().path,
               "ask for a larger disk; its floor is in: " + suggest("survey", {disk().path}));
      Sectors end = usable;
      const PartitionTable& table = *disk().table;
      const Sectors least = aligned_end(disk(), *layer.partition, floors_.of(layer).size);
      // An aligned end stays aligned where there is room for it.
      if (table.is_aligned(layer.partition->end()) && table.align_down(end) >= least)
        end = table.align_down(end);
      ends_[&layer] = end;
      limit(layer, to_bytes(end - layer.partition->first, sector));
    }
  }

  // Who is to lose what lacks; then everybody moves up.
  void pack_disk() {
    PartitionLayout lineup(guest_, disk_index_);
    for (const auto& [layer, size] : sizes_)
      if (PartitionLayout::Member* each = lineup.find(*layer)) lineup.cut(*each, size);
    const Sectors usable =
        new_size_ ? disk().table->usable_end_on(*new_size_) : disk().table->facts().usable_end;
    const std::uint32_t sector = disk().table->facts().sector_size;
    if (request_.to_floor)
      for (const PartitionLayout::Member& each : lineup.members())
        lineup.cut(*lineup.find(*each.layer), floors_.of(*each.layer).size);
    PartitionLayout packed = lineup;
    packed.pack_to_front();
    if (packed.end() > usable) {
      const Bytes lacking = to_bytes(packed.end() - usable, sector);
      PartitionLayout::Member& giver = *lineup.find(find_giver(lineup, lacking));
      lineup.cut(giver, to_bytes(giver.count, sector) -
                            Bytes(round_up(lacking.value(), partition_alignment)));
      packed = lineup;
      packed.pack_to_front();
      ensure(packed.end() <= usable, "the partitions fit on the smaller disk");
    }
    for (const PartitionLayout::Member& each : packed.members()) {
      if (each.count < each.layer->partition->count)
        limit(*each.layer, to_bytes(each.count, sector));
      if (!each.moves()) continue;
      if (sizes_.contains(each.layer)) check_can_be_compared(guest_, *each.layer);
      moves_.push_back(each);
    }
    extended_ = packed.extended(usable);
  }

  const Layer& find_giver(const PartitionLayout& lineup, Bytes lacking) {
    std::vector<const Layer*> able;
    Advice commands;
    const std::uint32_t sector = disk().table->facts().sector_size;
    const Bytes amount(round_up(lacking.value(), partition_alignment));
    for (const PartitionLayout::Member& each : lineup.members()) {
      if (sizes_.contains(each.layer)) continue;
      PartitionLayout::Member least = each;
      lineup.cut(least, floors_.of(*each.layer).size);
      if (to_bytes(each.count - least.count, sector) < amount) continue;
      able.push_back(each.layer);
      commands +=
          "\n  " + command_with(request_, guest_.best_name(*each.layer) + "=" + paste_size(amount));
    }
    if (able.size() == 1) return *able.front();
    refuse(fmt::format("{} must be taken from something on the disk", human(lacking)), disk().path,
           able.empty() ? Advice("take from several in one command: --take TARGET=AMOUNT")
                        : "say from what:" + commands);
  }

  void remove_disk() {
    if (!request_.remove_disk) return;
    const std::size_t index = *request_.remove_disk;
    bool found = false;
    for (const VolumeGroup& group : guest_.groups())
      for (std::size_t pv = 0; pv < group.devices.size(); ++pv) {
        const Layer* device = group.devices[pv];
        if (device == nullptr || device->disk != index || !device->lies_on_disk()) continue;
        if (group.devices.size() == 1)
          refuse("this is the only physical volume of group " + group.open.group.name,
                 guest_.disks()[index].path, "a group needs one");
        group_change(group).leaving.push_back(pv);
        found = true;
      }
    if (!found)
      refuse("no physical volume of a group lies on this disk", guest_.disks()[index].path,
             "choose another disk");
    for (const Layer& layer : guest_.disks()[index].layers) {
      const bool harmless = layer.content.kind == ContentKind::physical_volume ||
                            layer.content.kind == ContentKind::nothing ||
                            layer.content.kind == ContentKind::logical_partitions;
      if (!harmless)
        plan_.remains.push_back(fmt::format("{} on the same disk holds {}: it goes with the disk",
                                            guest_.name_of(layer), layer.content.name));
    }
  }

  // From the inside out: content, volumes, physical volumes, partitions, the table, the disk.
  void add_steps() {
    for (const auto& [layer, size] : sizes_) {
      std::size_t pv = 0;
      if (const VolumeGroup* group = guest_.group_on(*layer, pv)) {
        // A physical volume may end before its place does: then that becomes smaller around it.
        if (group->open.group.pvs[pv].device_size > size.value())
          group_change(*group).devices[pv] = size;
      } else {
        plan_smaller_content(plan_, cost_, guest_, *layer, size);
      }
    }
    for (auto& [group, change] : groups_)
      plan_smaller_group(plan_, cost_, guest_, floors_, request_, change);
    ShrinkAround around(plan_, cost_, guest_, request_);
    for (const auto& [layer, size] : sizes_) {
      if (!layer->partition) continue;
      const auto fixed = ends_.find(layer);
      Sectors end = aligned_end(guest_.disks()[layer->disk], *layer->partition, size);
      if (fixed != ends_.end()) end = std::min(end, fixed->second);
      around.shorten(*layer, end, new_size_ && !extended_ ? new_size_ : std::nullopt);
    }
    for (const PartitionLayout::Member& each : moves_) around.move(each);
    if (extended_) around.move_extended(disk_index_, *extended_);
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) around.finish_disk(i);
    name_targets();
    note_full_filesystems(plan_, guest_);
  }

  void name_targets() {
    std::string names;
    for (const LayerId& where : plan_.targets) {
      const Layer* layer = guest_.find(where);
      names += (names.empty() ? "" : ", ") + guest_.best_name(*layer);
    }
    plan_.target = names;
  }

  const Guest& guest_;
  const ShrinkRequest& request_;
  Floors floors_;
  Plan plan_;
  WriteCost cost_;
  std::size_t disk_index_ = 0;
  std::optional<Bytes> new_size_;
  std::map<const Layer*, Bytes, ByOffset> sizes_;  // of partitions and disks that become smaller
  std::map<const Layer*, Sectors> ends_;           // of partitions that must end there
  std::vector<PartitionLayout::Member> moves_;     // in the order they lie in
  std::optional<PartitionLayout::Extended> extended_;
  std::map<const VolumeGroup*, GroupChange> groups_;
};

}  // namespace

Plan plan_shrink(const Guest& guest, const ShrinkRequest& request) {
  return Shrinker(guest, request).run();
}

}  // namespace jh
