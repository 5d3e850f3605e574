#include "core/change/proof.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/base/checksum.h"
#include "core/change/footprint.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/read.h"

namespace jh {
namespace {

// Ranges of one file that differ from before, in order.
using Ranges = std::map<std::uint64_t, std::uint64_t>;  // start → end

Ranges changed_ranges(Stage& stage) {
  Ranges ranges;
  const auto add = [&](std::uint64_t at, std::uint64_t length) {
    if (!ranges.empty() && std::prev(ranges.end())->second == at)
      std::prev(ranges.end())->second = at + length;
    else
      ranges[at] = at + length;
  };
  constexpr std::size_t unit = 512;
  stage.for_each_change([&](std::uint64_t at, ConstByteSpan old, ConstByteSpan fresh) {
    for (std::size_t i = 0; i < fresh.size(); i += unit) {
      const std::size_t length = std::min(unit, fresh.size() - i);
      if (std::memcmp(old.data() + i, fresh.data() + i, length) != 0) add(at + i, length);
    }
  });
  Ranges direct;
  stage.for_each_direct([&](std::uint64_t at, std::uint64_t length) { direct[at] = at + length; });
  // The two do not overlap: a page is held or it is written directly.
  ranges.merge(direct);
  return ranges;
}

// Calls visit(start, end) for each part of the changed ranges that is inside [start, end).
template <class Visit>
void for_each_inside(const Ranges& ranges, std::uint64_t start, std::uint64_t end, Visit visit) {
  auto range = ranges.upper_bound(start);
  if (range != ranges.begin()) --range;
  for (; range != ranges.end() && range->first < end; ++range) {
    const std::uint64_t from = std::max(range->first, start);
    const std::uint64_t to = std::min(range->second, end);
    if (from < to) visit(from, to);
  }
}

// No byte of the disk outside of the tables and of the targets' own metadata may differ. Where a
// piece lies at the same place of the same file, the file's changes are its changes; otherwise the
// contents are compared.
void check_writes(Footprint& footprint, std::size_t disk, Container& before, Container& after,
                  const std::map<std::string, Ranges>& changes) {
  constexpr std::uint64_t unit = 1024;
  const auto check = [&](std::uint64_t at, std::uint64_t length) {
    for (std::uint64_t done = 0; done < length; done += unit)
      footprint.check(disk, at + done, std::min(unit, length - done));
  };
  Buffer old;
  Buffer fresh;
  const std::uint64_t size = before.disk().size();
  for (std::uint64_t at = 0; at < size;) {
    constexpr std::uint64_t most = 1U << 20;
    const Piece was = before.piece_at(at, size - at);
    const Piece now = after.piece_at(at, was.length);
    std::uint64_t length = now.length;
    const bool same_place = was.kind == Piece::Kind::data && now.kind == was.kind &&
                            now.at == was.at && now.store->name() == was.store->name();
    if (same_place) {
      const auto found = changes.find(now.store->name());
      if (found != changes.end())
        for_each_inside(
            found->second, now.at, now.at + length,
            [&](std::uint64_t from, std::uint64_t to) { check(at + (from - now.at), to - from); });
    } else if (was.kind != Piece::Kind::zero || now.kind != Piece::Kind::zero) {
      length = std::min(length, most);
      old.resize(length);
      fresh.resize(length);
      before.disk().read(at, old);
      after.disk().read(at, fresh);
      for (std::uint64_t i = 0; i < length; i += 512) {
        const std::uint64_t step = std::min<std::uint64_t>(512, length - i);
        if (std::memcmp(&old[i], &fresh[i], step) != 0) footprint.check(disk, at + i, step);
      }
    }
    at += length;
  }
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
      Sectors end = old.end();
      for (const Step& step : plan.steps)
        if (step.disk == i &&
            ((step.kind == StepKind::grow_partition && step.partition == old.number) ||
             (step.kind == StepKind::create_partition &&
              step.fresh.role == PartitionRole::logical && old.role == PartitionRole::extended)))
          end = std::max(end, step.new_end);
      if (now == nullptr || now->first != old.first || now->end() != end ||
          now->type_code != old.type_code || now->part_uuid != old.part_uuid ||
          now->label != old.label || now->role != old.role)
        proof_failed(fmt::format("partition {} is not as planned", old.number), where);
    }
  }
}

std::uint32_t digest_content(ext::Filesystem& fs, const ext::InodeRecord& inode,
                             std::uint32_t digest) {
  ext::BlockVisitor visitor;
  // Where content begins counts, not in how many pieces it lies.
  std::uint64_t end = 0;
  visitor.data = [&](const ext::MappedRun& run) {
    if (run.unwritten) return true;
    if (run.logical != end) digest = crc32c_raw(digest, bytes_of(run.logical));
    end = run.logical + run.count;
    constexpr std::uint64_t piece = 256;
    for (std::uint64_t done = 0; done < run.count; done += piece)
      digest = crc32c_raw(
          digest, read_buffer(fs.store(), fs.geometry().offset(run.physical + done),
                              std::min(piece, run.count - done) * fs.geometry().block_size));
    return true;
  };
  ext::visit_blocks(fs, inode, visitor);
  return digest;
}

// Names, attributes and sizes of the whole tree; where blocks moved, the content too instead of the
// places it is at.
std::uint32_t tree_digest(ext::Filesystem& fs, bool moved) {
  std::uint32_t digest = 0;
  ext::walk_tree(fs, [&](const std::string& path, const ext::InodeRecord& inode) {
    digest = crc32c_raw(digest, {reinterpret_cast<const std::uint8_t*>(path.data()), path.size()});
    ext::InodeRecord facts = inode;
    if (moved) {
      if (ext::has_blocks(inode)) {
        digest = digest_content(fs, inode, digest);
        facts.fields.block = {};
      }
      // Moved to several places, a file may need more blocks for its list of them; the audit
      // counts.
      facts.fields.blocks_lo = 0;
      facts.fields.blocks_hi = 0;
      facts.fields.file_acl_lo = 0;
      facts.fields.file_acl_hi = 0;
      facts.fields.checksum_lo = 0;
      if (facts.raw.size() > ext::old_inode_size) facts.fields.checksum_hi = 0;
      facts.store_fields();
    }
    digest = crc32c_raw(digest, facts.raw);
  });
  return digest;
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

void check_group(const VolumeGroup& before, const VolumeGroup& after, const Plan& plan) {
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
  for (const lvm::Volume& volume : old.volumes) {
    std::uint64_t extents = volume.extents;
    for (const Step& step : plan.steps)
      if (step.kind == StepKind::grow_volume && step.volume == old.name + "/" + volume.name)
        extents += step.extents;
    const lvm::Volume* found = now.find(volume.name);
    if (found == nullptr || found->id != volume.id || found->extents != extents ||
        !std::all_of(volume.segments.begin(), volume.segments.end(),
                     [&](const lvm::Segment& segment) { return keeps(*found, segment); }))
      proof_failed(fmt::format("volume {} is not as planned", volume.name), where);
  }
}

void check_inside(const Place& old_place, const Place* new_place, const Step& step,
                  const std::string& where) {
  if (new_place == nullptr || new_place->content.kind != old_place.content.kind ||
      (step.kind == StepKind::grow_ext && !new_place->content.ext))
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
    if (step.kind != StepKind::grow_ext) continue;
    const Place& place = *place_at(guest, step.where());
    ext::Filesystem& fs = *place.content.ext;
    Findings findings;
    ext::audit(fs, {ext::AuditScope::structure, fs.geometry().group_count - 1}, findings, progress);
    if (findings.clean()) continue;
    damaged("the filesystem is damaged: " + findings.kept().front().what,
            guest.disks()[step.disk].path + ", " + findings.kept().front().where,
            "nothing was changed; let the guest check the filesystem first (see all of it with: "
            "juneheath audit " +
                guest.disks()[step.disk].path + ")");
  }
}

void prove(const Guest& before, const Plan& plan, FileSet& files, ProofEffort effort,
           Progress& progress) {
  std::vector<Guest::Image> images;
  for (std::size_t i = 0; i < before.disks().size(); ++i)
    images.push_back({before.disks()[i].path, &files.stage(i), false, &files.beside()});
  std::uint32_t sector_size = 0;
  for (const Disk& disk : before.disks())
    if (disk.table) sector_size = disk.table->facts().sector_size;
  const Guest after(images, before.disks().size() == 1 ? sector_size : 0);
  std::map<std::string, Ranges> changes;
  for (Stage* stage : files.stages()) changes[stage->name()] = changed_ranges(*stage);
  Footprint footprint(before, plan);
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    if (before.disks()[i].added) continue;
    Container& container = *after.disks()[i].container;
    check_writes(footprint, i, *before.disks()[i].container, container, changes);
    if (container.facts().form == Form::raw) continue;
    Findings findings;
    container.audit(findings);
    check_findings(findings);
  }
  check_tables(before, after, plan);
  if (after.groups().size() != before.groups().size())
    proof_failed("a volume group is gone", before.disks().front().path);
  for (std::size_t i = 0; i < before.groups().size(); ++i)
    check_group(before.groups()[i], after.groups()[i], plan);
  for (const Step& step : plan.steps) {
    if (step.kind != StepKind::grow_ext && step.kind != StepKind::grow_swap) continue;
    const Place& old_place = *place_at(before, step.where());
    const Place* new_place = place_at(after, step.where());
    const std::string where = after.disks()[step.disk].path + ", " + step.layer;
    check_inside(old_place, new_place, step, where);
    if (step.kind == StepKind::grow_swap) continue;
    Findings findings;
    const std::uint32_t last_old = old_place.content.ext->geometry().group_count - 1;
    ext::AuditRequest request{ext::AuditScope::structure, last_old};
    const bool moved = clears_way(plan, step.where());
    if (effort == ProofEffort::full || moved) request = {};
    ext::audit(*new_place->content.ext, request, findings, progress);
    check_findings(findings);
    if ((effort == ProofEffort::full || moved) &&
        tree_digest(*old_place.content.ext, moved) != tree_digest(*new_place->content.ext, moved))
      proof_failed("the directory tree differs", where);
  }
}

}  // namespace jh
