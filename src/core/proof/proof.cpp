#include "core/proof/proof.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/proof/footprint.h"
#include "core/proof/given.h"
#include "core/proof/tree_compare.h"
#include "core/proof/verdict.h"
#include "core/staged/disk_compare.h"

namespace jh {
namespace {

// No byte of the disk outside of the tables and of the targets' own metadata may differ. What lies
// behind a new end is looked at where it has gone.
void check_writes(Footprint& footprint, std::size_t disk, Container& before, Container& after,
                  const FileChanges& changes, ContentCheck& contents) {
  for_each_difference(
      before, after, changes, contents,
      {[&](std::uint64_t at, std::uint64_t length) { footprint.check(disk, at, length); }});
}

void check_findings(const Findings& findings) {
  if (!findings.clean()) proof_failed(findings.kept().front().what, findings.kept().front().where);
}

void check_tables(const Guest& before, const Guest& after, const Plan& plan) {
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& old_disk = before.disks()[i];
    const Disk& new_disk = after.disks()[i];
    const std::string& where = new_disk.path;
    if (new_disk.size() != plan.disks[i].to)
      proof_failed(fmt::format("the disk has {} bytes", new_disk.size().value()), where);
    if (new_disk.trouble) proof_failed(new_disk.trouble->what(), where);
    if (old_disk.added) {
      if (!new_disk.table || new_disk.table->facts().partitions.size() != 1)
        proof_failed("the new disk has no table with one partition", where);
      continue;
    }
    if ((old_disk.table == nullptr) != (new_disk.table == nullptr))
      proof_failed("the partition table is gone", where);
    if (!new_disk.table) continue;
    const TableFacts& facts = new_disk.table->facts();
    if (!facts.blockers.empty()) proof_failed(facts.blockers.front().what(), where);
    if (plan.touches(i) && (!facts.repairs.empty() || new_disk.table->must_move_spare()))
      proof_failed("the partition table is not in order", where);
    std::size_t created = 0;
    for (const Step& step : plan.steps) {
      if (step.kind != StepKind::create_partition || step.disk != i) continue;
      ++created;
      const Partition* fresh = new_disk.table->find(step.partition);
      if (fresh == nullptr || fresh->first != step.fresh.first || fresh->end() != step.fresh.end ||
          fresh->role != step.fresh.role || fresh->type_name != "Linux LVM")
        proof_failed(fmt::format("the new partition {} is not as planned", step.partition), where);
    }
    if (facts.partitions.size() != old_disk.table->facts().partitions.size() + created)
      proof_failed("the number of partitions differs", where);
    for (const Partition& old : old_disk.table->facts().partitions) {
      const Partition* now = new_disk.table->find(old.number);
      Sectors first = old.first;
      Sectors end = old.end();
      for (const Step& step : plan.steps)
        if (step.disk == i && step.partition == old.number &&
            (step.kind == StepKind::move_partition || step.kind == StepKind::move_chain)) {
          first = step.new_first;
          end = step.new_end;
        } else if (step.disk == i && step.kind == StepKind::shrink_partition &&
                   step.partition == old.number)
          end = step.new_end;
        else if (step.disk == i &&
                 ((step.kind == StepKind::grow_partition && step.partition == old.number) ||
                  (step.kind == StepKind::create_partition &&
                   step.fresh.role == PartitionRole::logical &&
                   old.role == PartitionRole::extended)))
          end = std::max(end, step.new_end);
      if (now == nullptr || now->first != first || now->end() != end ||
          now->type_code != old.type_code || now->part_uuid != old.part_uuid ||
          now->label != old.label || now->role != old.role)
        proof_failed(fmt::format("partition {} is not as planned", old.number), where);
    }
  }
}

// Whether all of an old segment is where it was, in front of what was added.
bool keeps(const lvm::Volume& now, const lvm::Segment& old) {
  for (const lvm::Segment& segment : now.segments) {
    if (segment.start != old.start) continue;
    bool same = segment.type == old.type && segment.count >= old.count &&
                segment.stripe_size == old.stripe_size &&
                segment.stripes.size() == old.stripes.size();
    for (std::size_t i = 0; same && i < old.stripes.size(); ++i)
      same = segment.stripes[i].pv == old.stripes[i].pv &&
             segment.stripes[i].extent == old.stripes[i].extent;
    return same;
  }
  return false;
}

// Two places that must hold the same, byte for byte.
void compare_places(Store& before, const Place* after, ContentCheck& contents,
                    const std::string& where, Progress& progress) {
  if (after == nullptr || !after->window || after->window->size() > before.size())
    proof_failed("its content cannot be compared", where);
  Store& now = *after->window;
  const std::uint64_t same = contents.same_until(before, 0, now, 0, now.size(), progress);
  if (same != now.size())
    proof_failed(fmt::format("its content differs near byte {}", same), where);
}

// Whether a device of the group comes to lie elsewhere as well as becoming another.
bool device_moves(const Guest& guest, const Plan& plan, const VolumeGroup& group) {
  return plan.group == group.open.group.name &&
         std::any_of(group.devices.begin(), group.devices.end(), [&](const Place* device) {
           return device != nullptr && plan.has(StepKind::move_partition, where_is(guest, *device));
         });
}

void check_group(const Guest& guest, const VolumeGroup& before, const VolumeGroup& after,
                 const Plan& plan, ContentCheck& contents, Progress& progress) {
  const lvm::Group& old = before.open.group;
  const lvm::Group& now = after.open.group;
  const std::string where = "group " + old.name;
  const bool changes = plan.group == old.name;
  const auto blockers = after.open.blockers();
  if (blockers.size() > before.open.blockers().size()) proof_failed(blockers.back().what(), where);
  if (!changes && lvm::write_text(old.text()) != lvm::write_text(now.text()))
    proof_failed("its metadata would change", where);
  if (!changes) return;
  const bool commits = std::any_of(plan.steps.begin(), plan.steps.end(), [](const Step& step) {
    return step.kind == StepKind::commit_group;
  });
  if (now.sequence != old.sequence + (commits ? 1 : 0))
    proof_failed("its metadata has another number", where);
  if (commits && !after.open.notes.empty()) proof_failed(after.open.notes.front(), where);
  if (now.id != old.id || now.extent_size != old.extent_size ||
      now.volumes.size() != old.volumes.size())
    proof_failed("its identity or its list of volumes differs", where);
  for (const lvm::PhysicalVolume& pv : old.pvs) {
    const bool leaves = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
      return step.kind == StepKind::remove_device &&
             step.where() ==
                 where_is(guest, *before.devices[static_cast<std::size_t>(&pv - old.pvs.data())]);
    });
    const bool there = std::any_of(now.pvs.begin(), now.pvs.end(),
                                   [&](const auto& other) { return other.id == pv.id; });
    if (leaves == there)
      proof_failed(fmt::format("its list of devices ({}) differs", pv.name), where);
  }
  for (std::size_t i = 0; i < old.volumes.size(); ++i) {
    const lvm::Volume& volume = old.volumes[i];
    const std::string name = old.name + "/" + volume.name;
    std::uint64_t extents = volume.extents;
    for (const Step& step : plan.steps) {
      if (step.volume != name) continue;
      if (step.kind == StepKind::grow_volume) extents += step.extents;
      if (step.kind == StepKind::shrink_volume) extents = step.extents;
    }
    const lvm::Volume* found = now.find(volume.name);
    if (found == nullptr || found->id != volume.id || found->extents != extents)
      proof_failed(fmt::format("volume {} is not as planned", volume.name), where);
    const bool stays =
        !device_moves(guest, plan, before) &&
        std::all_of(volume.segments.begin(), volume.segments.end(),
                    [&](const lvm::Segment& segment) { return keeps(*found, segment); });
    if (stays) continue;
    if (!plan.lets_go())
      proof_failed(fmt::format("volume {} does not lie where it did", volume.name), where);
    // Moved, or cut: its target's tree is compared with all its content; others byte for byte.
    const bool target = std::any_of(plan.targets.begin(), plan.targets.end(),
                                    [&](const Where& place) { return place.volume == name; });
    if (!target && !before.volumes[i].window) proof_failed("its content cannot be compared", name);
    if (!target)
      compare_places(*before.volumes[i].window,
                     &after.volumes[static_cast<std::size_t>(found - now.volumes.data())], contents,
                     name, progress);
  }
}

void check_inside(const Place& old_place, const Place* new_place, const Step& step,
                  const std::string& where) {
  if (new_place == nullptr ||
      new_place->content.filesystem_kind != old_place.content.filesystem_kind ||
      (old_place.content.filesystem && !new_place->content.filesystem))
    proof_failed("what is in it cannot be opened", where);
  if (!new_place->content.blockers.empty())
    proof_failed(new_place->content.blockers.front().what(), where);
  if (new_place->content.size != step.to) proof_failed("it has another size", where);
  if (new_place->content.uuid != old_place.content.uuid ||
      new_place->content.label != old_place.content.label)
    proof_failed("it has another identity", where);
}

}  // namespace

void check_sound(const Guest& guest, const Plan& plan, Progress& progress) {
  for (const Step& step : plan.steps) {
    if (step.kind != StepKind::grow_content && step.kind != StepKind::shrink_content) continue;
    const Place& place = *place_at(guest, step.where());
    Filesystem& fs = *place.content.filesystem;
    Findings findings;
    // What moves must be known to be whole: no block of two owners, none that is not counted.
    const AuditScope scope =
        plan.moves_content(step.where()) ? AuditScope::full : AuditScope::structure;
    fs.audit(scope, fs.size(), findings, progress);
    if (findings.clean()) continue;
    damaged("the filesystem is damaged: " + findings.kept().front().what,
            guest.disks()[step.disk].path + ", " + findings.kept().front().where,
            "let the guest check the filesystem first (see all of it with: "
            "juneheath audit " +
                guest.disks()[step.disk].path + ")");
  }
}

namespace {

// Its volume's extents may have moved under it.
bool moved_in_group(const Guest& guest, const Plan& plan, const Where& where) {
  if (where.volume.empty()) return false;
  return device_moves(guest, plan, guest.group_of(*place_at(guest, where))) ||
         std::any_of(plan.steps.begin(), plan.steps.end(),
                     [](const Step& step) { return step.kind == StepKind::move_extents; });
}

// What moved with its partition is the same in its new place; but for a name it has for that place,
// and a physical volume of the group that changes: its volumes are compared.
void check_moved(const Guest& before, const Guest& after, const Plan& plan, const Step& step,
                 ContentCheck& contents, Progress& progress) {
  const Place& old_place = *place_at(before, step.where());
  const std::string where = after.disks()[step.disk].path + ", " + step.layer;
  std::size_t pv = 0;
  const VolumeGroup* group = before.group_on(old_place, pv);
  if (group != nullptr && group->open.group.name == plan.group) return;
  ScratchStore told(*old_place.window);
  tell_place(told, old_place.content.filesystem_kind, old_place.partition->first, step.new_first);
  compare_places(told, place_at(after, step.where()), contents, where, progress);
}

void prove_content(const Guest& before, const Guest& after, const Plan& plan, const Step& step,
                   const Footprint& footprint, ProofEffort effort, ContentCheck& contents,
                   Progress& progress) {
  const Place& old_place = *place_at(before, step.where());
  const Place* new_place = place_at(after, step.where());
  const std::string where = after.disks()[step.disk].path + ", " + step.layer;
  check_inside(old_place, new_place, step, where);
  Filesystem& old_fs = *old_place.content.filesystem;
  Filesystem& new_fs = *new_place->content.filesystem;
  Findings findings;
  const bool as_a_whole = plan.has(StepKind::move_partition, step.where());
  const bool moved = plan.moves_content(step.where());
  const bool all = effort == ProofEffort::full || moved;
  new_fs.audit(all ? AuditScope::full : AuditScope::structure, old_fs.size(), findings, progress);
  new_fs.audit_kept(old_fs, moved, findings);
  check_findings(findings);
  if (!all) return;
  Ranges changed;
  // Its own extents may have moved under it: then all of its content is read.
  if (effort == ProofEffort::full || as_a_whole || moved_in_group(before, plan, step.where()))
    add_range(changed, 0, old_place.size.value());
  else
    changed = footprint.changed_in(step.where());
  const auto old_tree = old_fs.tree();
  const auto new_tree = new_fs.tree();
  if (!old_tree || !new_tree) return;
  compare_trees({*old_tree, old_fs.store()}, {*new_tree, new_fs.store()}, changed, contents, where,
                progress);
}

}  // namespace

void prove(const Guest& opened, const Plan& plan, FileSet& files, ProofEffort effort,
           Progress& progress) {
  std::vector<Guest::Image> images;
  std::vector<Guest::Image> old_images;
  for (std::size_t i = 0; i < opened.disks().size(); ++i) {
    const std::string& path = opened.disks()[i].path;
    images.push_back({path, &files.stage(i), false, &files.beside()});
    old_images.push_back({path, &files.old_state(i), false, &files.old_beside()});
  }
  std::uint32_t sector_size = opened.sector_size();
  for (const Disk& disk : opened.disks())
    if (disk.table && opened.disks().size() == 1) sector_size = disk.table->facts().sector_size;
  const Guest after(images, sector_size);
  // Places that a shrinking has left may have been written already; the ledger knows what was
  // there.
  std::unique_ptr<Guest> old;
  if (plan.lets_go()) old = std::make_unique<Guest>(old_images, sector_size);
  const Guest& before = old ? *old : opened;
  const FileChanges changes = changed_files(files);
  ContentCheck contents(files);
  Footprint footprint(before, after, plan);
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    if (before.disks()[i].added) continue;
    Container& container = *after.disks()[i].container;
    check_writes(footprint, i, *before.disks()[i].container, container, changes, contents);
    if (container.facts().form == Form::raw) continue;
    Findings findings;
    container.audit(findings);
    check_findings(findings);
  }
  check_tables(before, after, plan);
  if (after.groups().size() != before.groups().size())
    proof_failed("a volume group is gone", before.disks().front().path);
  for (std::size_t i = 0; i < before.groups().size(); ++i)
    check_group(before, before.groups()[i], after.groups()[i], plan, contents, progress);
  for (const Step& step : plan.steps)
    if (step.kind == StepKind::move_partition && !plan.has(StepKind::shrink_content, step.where()))
      check_moved(before, after, plan, step, contents, progress);
  for (const Step& step : plan.steps)
    if (step.kind == StepKind::grow_content || step.kind == StepKind::shrink_content)
      prove_content(before, after, plan, step, footprint, effort, contents, progress);
  note_given_room(before, after, plan, files);
}

}  // namespace jh
