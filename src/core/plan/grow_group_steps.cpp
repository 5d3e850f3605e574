#include "core/plan/grow_group_steps.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/uuid.h"
#include "core/lvm/grow.h"
#include "core/plan/content.h"

namespace jh {
namespace {

class GroupSteps {
 public:
  GroupSteps(Plan& plan, const GroupGrowth& growth) : plan_(plan), g_(growth) {}

  void run() {
    std::vector<bool> tables_done(g_.guest.disks().size());
    std::vector<bool> containers_done(g_.guest.disks().size());
    const auto open_up = [&](std::size_t i) {
      if (!containers_done[i] && !g_.guest.disks()[i].added)
        plan_container(plan_, g_.guest, g_.request, i, g_.disk_sizes[i]);
      containers_done[i] = true;
    };
    const auto prepare = [&](std::size_t i) {
      if (tables_done[i]) return;
      tables_done[i] = true;
      const Disk& disk = g_.guest.disks()[i];
      check_table_of(disk);
      open_up(i);
      plan_table(plan_, g_.guest, i, g_.disk_sizes[i], true);
    };
    // The group's text is written on all of its disks.
    for (const Place* device : g_.group.devices)
      if (device != nullptr) open_up(device->disk);
    if (g_.resized) prepare(*g_.resized);
    for (const DeviceGrowth& growth : g_.growths) {
      prepare(growth.place->disk);
      if (growth.place->partition && growth.new_end > growth.place->partition->end())
        plan_partition_end(plan_, g_.guest, *growth.place, growth.new_end);
    }
    for (const FreshDevice& fresh : g_.fresh) {
      if (fresh.new_disk)
        add_disk_step(fresh.disk);
      else
        prepare(fresh.disk);
      add_partition_step(fresh);
    }
    for (const DeviceGrowth& growth : g_.growths) add_device_step(growth);
    for (const FreshDevice& fresh : g_.fresh) add_fresh_device_step(fresh);
    bool changed = !g_.growths.empty() || !g_.fresh.empty();
    for (const Wish* wish : g_.settled) {
      if (wish->extents == 0) continue;
      add_volume_step(*wish);
      changed = true;
    }
    if (changed) add_commit_step();
    for (const Wish* wish : g_.settled) {
      const Bytes size = wish->volume->size + g_.group.bytes(wish->extents);
      plan_content(plan_, g_.guest, *wish->volume, size, size);
    }
    plan_.group = facts().name;
    for (const Wish& wish : g_.wishes) {
      plan_.target += (plan_.target.empty() ? "" : ", ") + g_.guest.best_name(*wish.volume);
      plan_.targets.push_back(where_is(g_.guest, *wish.volume));
    }
    if (g_.wishes.empty()) plan_.target = "group " + facts().name;
    add_notes();
  }

 private:
  const lvm::Group& facts() const { return g_.group.open.group; }
  std::string device_name(std::size_t pv) const {
    return "PV on " + g_.guest.name_of(*g_.group.devices[pv]);
  }

  std::string disk_name(std::size_t i) const {
    return g_.guest.disks().size() == 1 ? "disk" : fmt::format("{}:disk", i + 1);
  }

  void add_device_step(const DeviceGrowth& growth) {
    const std::uint64_t to = g_.planned.group.pvs[growth.pv].extents;
    const std::uint64_t from = facts().pvs[growth.pv].extents;
    Step step{StepKind::grow_device,
              growth.place->disk,
              device_name(growth.pv),
              fmt::format("take {} more extents", grouped(to - from)),
              g_.group.bytes(from),
              g_.group.bytes(to),
              growth.place->partition ? growth.place->partition->number : 0};
    plan_.steps.push_back(std::move(step));
  }

  void add_disk_step(std::size_t i) {
    const Disk& disk = g_.guest.disks()[i];
    Step step{StepKind::create_disk, i, disk_name(i), "", Bytes(0), disk.size()};
    step.table = table_kind_of_new(g_.guest, disk);
    const ContainerFacts first = g_.guest.disks().front().container->facts();
    NewContainer& made = plan_.disks[i].made;
    made.form = first.form;
    made.in_pieces = first.form == Form::vmdk && first.parts.size() > 1;
    made.disk_size = disk.size();
    made.id = random_guid();
    std::memcpy(&made.content_id, made.id.data(), sizeof(made.content_id));
    made.content_id >>= 1;  // never the value that means "none"
    plan_.disks[i].new_parts = parts_of_new(disk.path, made);
    step.action = fmt::format("make a new sparse {} image, with an empty {}", form_name(made.form),
                              kind_name(step.table));
    plan_.steps.push_back(std::move(step));
    plan_.bytes_to_write += 256 * 1024;
    plan_.remains.push_back("attach the new disk to the guest in your hypervisor: " + disk.path);
  }

  void add_partition_step(const FreshDevice& fresh) {
    const Disk& disk = g_.guest.disks()[fresh.disk];
    const bool mbr = fresh.new_disk ? table_kind_of_new(g_.guest, disk) == TableKind::mbr
                                    : disk.table->facts().kind == TableKind::mbr;
    const bool logical = fresh.partition.role == PartitionRole::logical;
    Step step{StepKind::create_partition,
              fresh.disk,
              name_of_new(g_.guest, fresh),
              fmt::format("make a new {}partition{} for a physical volume",
                          logical ? "logical " : "", mbr ? " (type 0x8e)" : ""),
              Bytes(0),
              fresh.size,
              fresh.partition.number,
              fresh.partition.end};
    step.fresh = fresh.partition;
    plan_.steps.push_back(std::move(step));
    if (fresh.new_disk) return;
    plan_.notes.push_back(fmt::format("{} is new: {}", name_of_new(g_.guest, fresh),
                                      g_.request.new_partition
                                          ? "asked for with --new-partition"
                                          : "no physical volume can grow in place"));
  }

  void add_fresh_device_step(const FreshDevice& fresh) {
    const std::uint64_t extents = lvm::new_extents(g_.group.open, fresh.size.value());
    Step step{StepKind::add_device,
              fresh.disk,
              "PV on " + name_of_new(g_.guest, fresh),
              fmt::format("make it, with {} extents, and add it to the group", grouped(extents)),
              Bytes(0),
              g_.group.bytes(extents),
              fresh.partition.number};
    plan_.steps.push_back(std::move(step));
    plan_.bytes_to_write += g_.planned.group.pvs.back().data_start;
  }

  void add_volume_step(const Wish& wish) {
    const Place& place = *wish.volume;
    Step step{StepKind::grow_volume,
              place.disk,
              g_.guest.name_of(place),
              fmt::format("add {} extents of {}{}", grouped(wish.extents),
                          human(Bytes(facts().extent_size)),
                          wish.pieces > 1 ? fmt::format(", in {} pieces", wish.pieces) : ""),
              place.size,
              place.size + g_.group.bytes(wish.extents)};
    step.volume = g_.guest.name_of(place);
    step.extents = wish.extents;
    plan_.steps.push_back(std::move(step));
  }

  void add_commit_step() {
    std::uint64_t copies = 0;
    for (const auto& member : g_.planned.members)
      for (const lvm::MetadataArea& area : member->device.areas) copies += area.ignored ? 0 : 1;
    const Bytes size = g_.group.bytes(g_.planned.group.total_extents());
    Step step{StepKind::commit_group,
              g_.group.devices.front()->disk,
              "group " + facts().name,
              fmt::format("write its metadata anew (number {}), {} cop{}", facts().sequence + 1,
                          copies, copies == 1 ? "y" : "ies"),
              g_.group.bytes(facts().total_extents()),
              size};
    plan_.steps.push_back(std::move(step));
    plan_.bytes_to_write += (lvm::write_text(g_.planned.group.text()).size() + 8192) * copies;
  }

  void add_notes() {
    for (const std::string& note : g_.group.open.notes) plan_.notes.push_back(note);
    const std::uint64_t left = g_.planned.group.free_extents();
    const std::uint64_t gained = g_.planned.group.total_extents() - facts().total_extents();
    std::string from;
    if (gained != 0) from = fmt::format("{} are new to it", human(g_.group.bytes(gained)));
    if (g_.free_before != 0)
      from += fmt::format("{}{} it had free", from.empty() ? "" : ", ",
                          human(g_.group.bytes(g_.free_before)));
    if (!from.empty())
      plan_.notes.push_back(fmt::format("group {}: {}; {} stay free in it", facts().name, from,
                                        left == 0 ? "none" : human(g_.group.bytes(left))));
  }

  Plan& plan_;
  const GroupGrowth& g_;
};

}  // namespace

void check_table_of(const Disk& disk) {
  if (disk.trouble) throw *disk.trouble;
  if (disk.table && !disk.table->facts().blockers.empty())
    throw disk.table->facts().blockers.front();
}

TableKind table_kind_of_new(const Guest& guest, const Disk& disk) {
  const Disk& first = guest.disks().front();
  const bool mbr = first.table && first.table->facts().kind == TableKind::mbr;
  return mbr && disk.size() <= 2048_GiB ? TableKind::mbr : TableKind::gpt;
}

std::string name_of_new(const Guest& guest, const FreshDevice& fresh) {
  return guest.disks().size() == 1 ? fmt::format("p{}", fresh.partition.number)
                                   : fmt::format("{}:p{}", fresh.disk + 1, fresh.partition.number);
}

void add_group_steps(Plan& plan, const GroupGrowth& growth) { GroupSteps(plan, growth).run(); }

}  // namespace jh
