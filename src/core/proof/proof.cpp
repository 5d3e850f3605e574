#include "core/proof/proof.h"

#include "core/proof/assigned_ranges.h"
#include "core/proof/footprint.h"
#include "core/proof/groups.h"
#include "core/proof/snapshots.h"
#include "core/proof/tables.h"
#include "core/proof/tree_compare.h"
#include "core/proof/verdict.h"
#include "core/staged/disk_compare.h"
#include "core/staged/kept_ranges.h"

namespace jh {
namespace {

bool resizes_content(const Step& step) {
  return step.is<step::GrowContent>() || step.is<step::ShrinkContent>();
}

void check_findings(const Findings& findings) {
  if (!findings.clean()) proof_failed(findings.kept().front().what, findings.kept().front().where);
}

void check_inside(const Layer& old_place, const Layer* new_place, Bytes planned,
                  const std::string& where) {
  if (new_place == nullptr ||
      new_place->content.filesystem_kind() != old_place.content.filesystem_kind() ||
      (old_place.content.filesystem() && !new_place->content.filesystem()))
    proof_failed("what is in it cannot be opened", where);
  if (!new_place->content.blockers.empty())
    proof_failed(new_place->content.blockers.front().what(), where);
  if (new_place->content.size != planned) proof_failed("it has another size", where);
  if (new_place->content.uuid != old_place.content.uuid ||
      new_place->content.label != old_place.content.label)
    proof_failed("it has another identity", where);
}

}  // namespace

void check_sound(const Guest& guest, const Plan& plan, Progress& progress) {
  for (const Step& step : plan.steps) {
    if (!resizes_content(step)) continue;
    const Layer& layer = *guest.find(step.layer);
    FilesystemOnDisk& fs = *layer.content.on_disk();
    Findings findings;
    // What moves must be known to be whole: no block of two owners, none that is not counted.
    const AuditScope scope = plan.moves_content(step.layer) ? AuditScope::full
                             : step.to > step.from          ? AuditScope::growth
                                                            : AuditScope::structure;
    fs.audit(scope, fs.size(), findings, progress);
    if (findings.clean()) continue;
    const std::string& path = guest.disks()[step.layer.disk].path;
    damaged("the filesystem is damaged: " + findings.kept().front().what,
            path + ", " + findings.kept().front().where,
            "let the guest check the filesystem first (see all of it with: " +
                suggest("audit", {path}) + ")");
  }
}

namespace {

class Proof {
 public:
  Proof(const Guest& before, const Guest& after, const Plan& plan, FileSet& files,
        ProofEffort effort, Progress& progress)
      : before_(before),
        after_(after),
        plan_(plan),
        effort_(effort),
        progress_(progress),
        changes_(changed_files(files)),
        contents_(files, effort == ProofEffort::full ? ContentCheck::Effort::bytes
                                                     : ContentCheck::Effort::blocks),
        footprint_(before, after, plan) {}

  EvidenceList run() {
    for (std::size_t i = 0; i < before_.disks().size(); ++i)
      if (!plan_.makes_table(i)) check_disk(i);
    check_tables(before_, after_, plan_);
    note_tables();
    check_groups(before_, after_, plan_, contents_, progress_);
    if (!plan_.groups.empty())
      seen_.add("volume groups compared with the plan, their volumes with what they held",
                plan_.groups.size());
    plan_.for_each<step::MovePartition>([&](const Step& step, const step::MovePartition& work) {
      if (!resized(step.layer)) check_moved(step, work);
    });
    for (const Step& step : plan_.steps)
      if (resizes_content(step)) check_content(step);
    plan_.for_each<step::GrowPartition>([&](const Step& step, const step::GrowPartition&) {
      if (const Layer* layer = before_.find(step.layer); layer->content.claims)
        check_end_put_back(step);
    });
    seen_.add("moved content read in both places, and the same", contents_.compared(), "bytes");
    if (contents_.shared() != 0)
      seen_.add("moved content in the same blocks of the host", contents_.shared(), "bytes");
    return seen_;
  }

 private:
  void note_tables() {
    std::uint64_t tables = 0;
    std::uint64_t partitions = 0;
    for (const Disk& disk : after_.disks())
      if (disk.table) {
        ++tables;
        partitions += disk.table->facts().partitions.size();
      }
    if (tables == 0) return;
    seen_.add("partition tables read again", tables);
    seen_.add("partitions where the plan puts them", partitions);
  }

  bool resized(const LayerId& where) const {
    return plan_.has<step::GrowContent>(where) || plan_.has<step::ShrinkContent>(where);
  }

  // No byte of the disk outside of the tables and of the targets' own metadata may differ. What
  // lies behind a new end is looked at where it has gone.
  void check_disk(std::size_t disk) {
    Container& after = *after_.disks()[disk].container;
    std::uint64_t differing = 0;
    for_each_difference(*before_.disks()[disk].container, after, changes_, contents_,
                        {[&](std::uint64_t at, std::uint64_t length) {
                          footprint_.check(disk, at, length);
                          differing += length;
                        }});
    seen_.add("bytes of the disk that differ, each of them where the plan lets it", differing,
              "bytes");
    if (after.facts().format == ImageFormat::raw) return;
    Findings findings;
    after.audit(findings);
    check_findings(findings);
    const Disk& old_disk = before_.disks()[disk];
    if (const std::size_t snapshots = check_snapshots(*old_disk.container, *old_disk.file, after,
                                                      *after_.disks()[disk].file, changes_))
      seen_.add("snapshots of the image, of which no byte has changed", snapshots);
    seen_.add("tables of image forms audited", 1);
  }

  std::string place_text(const Step& step) const {
    return after_.disks()[step.layer.disk].path + ", " + step.name;
  }

  // What moved with its partition is the same in its new place; but for a name it has for that
  // place, and a physical volume of a group that changes: its volumes are compared.
  void check_moved(const Step& step, const step::MovePartition& work) {
    const Layer& old_place = *before_.find(step.layer);
    std::size_t pv = 0;
    const VolumeGroup* group = before_.group_on(old_place, pv);
    if (group != nullptr && plan_.changes(*group)) return;
    ScratchStore told(*old_place.window);
    update_partition_start(told, old_place.content.filesystem_kind(), old_place.partition->first,
                           work.first);
    const Ranges kept = kept_when_moved(old_place.content, step.to.value());
    compare_layers(told, after_.find(step.layer), kept, contents_, place_text(step), progress_);
  }

  // Nobody knows what happened behind the end while it was cut off: all of it is looked at.
  void check_end_put_back(const Step& step) {
    const Layer& layer = *after_.find(step.layer);
    const std::string where = place_text(step);
    std::size_t pv = 0;
    if (const VolumeGroup* group = after_.group_on(layer, pv)) {
      if (const auto blockers = group->open.blockers(); !blockers.empty())
        proof_failed(blockers.front().what(), where);
    }
    if (!layer.content.blockers.empty()) proof_failed(layer.content.blockers.front().what(), where);
    if (!layer.content.filesystem()) return;
    Findings findings;
    layer.content.on_disk()->audit(AuditScope::full, layer.size, findings, progress_);
    check_findings(findings);
    seen_.add("filesystems audited in full with their old end", 1);
  }

  void check_content(const Step& step) {
    const Layer& old_place = *before_.find(step.layer);
    const Layer* new_place = after_.find(step.layer);
    check_inside(old_place, new_place, plan_.after.contents.at(step.layer), place_text(step));
    FilesystemOnDisk& old_fs = *old_place.content.on_disk();
    FilesystemOnDisk& new_fs = *new_place->content.on_disk();
    Findings findings;
    const bool as_a_whole =
        plan_.has<step::MovePartition>(step.layer) || moved_in_group(before_, plan_, step.layer);
    const bool moved = plan_.moves_content(step.layer);
    const bool all = effort_ == ProofEffort::full || moved || as_a_whole;
    const AuditScope scope = effort_ == ProofEffort::full ? AuditScope::content
                             : all                        ? AuditScope::full
                                                          : AuditScope::structure;
    new_fs.audit(scope, old_fs.size(), findings, progress_);
    new_fs.audit_kept(old_fs, moved, findings);
    check_findings(findings);
    seen_.add(all ? "filesystems and swap areas audited in full"
                  : "filesystems and swap areas audited as far as the change reached",
              1);
    if (!all) return;
    Ranges changed;
    // Where all of it has gone elsewhere, all of its content is read.
    if (effort_ == ProofEffort::full || as_a_whole)
      add_range(changed, 0, old_place.size.value());
    else
      changed = footprint_.changed_in(step.layer);
    const auto old_tree = old_fs.tree();
    const auto new_tree = new_fs.tree();
    if (!old_tree || !new_tree) return;
    seen_.add("files and folders compared: names, attributes, places",
              compare_trees({*old_tree, old_fs.store()}, {*new_tree, new_fs.store()}, changed,
                            contents_, place_text(step), progress_));
  }

  const Guest& before_;
  const Guest& after_;
  const Plan& plan_;
  ProofEffort effort_;
  Progress& progress_;
  FileChanges changes_;
  ContentCheck contents_;
  Footprint footprint_;
  EvidenceList seen_;
};

// What the sectors of each disk were taken to be when it was opened.
std::uint32_t sector_size_of(const Guest& guest) {
  if (guest.disks().size() == 1 && guest.disks().front().table)
    return guest.disks().front().table->facts().sector_size;
  return guest.sector_size();
}

}  // namespace

EvidenceList prove(const Guest& opened, const Plan& plan, FileSet& files, ProofEffort effort,
                   Progress& progress) {
  std::vector<Guest::Image> images;
  std::vector<Guest::Image> old_images;
  for (std::size_t i = 0; i < opened.disks().size(); ++i) {
    const std::string& path = opened.disks()[i].path;
    images.push_back({path, &files.stage(i), false, &files.resolver()});
    old_images.push_back({path, &files.old_state(i), false, &files.old_resolver()});
  }
  const Guest after(images, sector_size_of(opened));
  // Places that a change has left may have been written already; the ledger knows what was there.
  std::unique_ptr<Guest> old;
  if (plan.lets_go()) old = std::make_unique<Guest>(old_images, sector_size_of(opened));
  const Guest& before = old ? *old : opened;
  EvidenceList seen = Proof(before, after, plan, files, effort, progress).run();
  note_assigned_ranges(before, after, plan, files);
  return seen;
}

}  // namespace jh
