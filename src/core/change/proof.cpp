#include "core/change/proof.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <set>

#include "core/base/checksum.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/read.h"

namespace jh {
namespace {

[[noreturn]] void failed(const std::string& what, const std::string& where) {
  damaged("the result did not pass its proof: " + what, where,
          "nothing was changed; please report this with the output of: juneheath audit");
}

const Place* place_of(const Guest& guest, std::size_t disk, std::uint32_t partition) {
  for (const Place& place : guest.disks()[disk].places)
    if ((place.partition ? place.partition->number : 0) == partition) return &place;
  return nullptr;
}

// Blocks of the old filesystem that a growth may write although they are in use.
class GrowthFootprint {
 public:
  /// `at_rest`: what replaying its journal writes, if that comes first; may be null.
  GrowthFootprint(ext::Filesystem& fs, ScratchStore* at_rest)
      : fs_(fs), g_(fs.geometry()), at_rest_(at_rest) {
    const std::uint32_t last = g_.group_count - 1;
    allowed_.insert(fs.group(last).block_bitmap);
    if (g_.has_compat(ext::compat::resize_inode)) {
      allowed_.insert(fs.inode_offset(ext::resize_ino) / g_.block_size);
      allowed_.insert(fs.read_inode(ext::resize_ino).fields.block[13].value());
    }
    for (std::uint32_t i = 0; i < g_.desc_blocks; ++i)
      for (const std::uint64_t block : g_.descriptor_copies(i)) allowed_.insert(block);
  }

  bool allows(std::uint64_t block) {
    if (block < g_.first_data_block || allowed_.contains(block)) return true;
    if (at_rest_ != nullptr && at_rest_->is_changed(g_.offset(block), g_.block_size)) return true;
    const std::uint32_t group = g_.group_of(block);
    for (const ext::BlockRun& run : g_.base_metadata(group))
      if (block >= run.start && block < run.end()) return true;
    if (group != cached_group_) {
      bitmap_ = fs_.block_bitmap(group);
      cached_group_ = group;
    }
    return !ext::test_bit(bitmap_, (block - g_.group_first(group)) / g_.cluster_ratio);
  }

 private:
  ext::Filesystem& fs_;
  const ext::Geometry& g_;
  ScratchStore* at_rest_;
  std::set<std::uint64_t> allowed_;
  std::uint32_t cached_group_ = UINT32_MAX;
  Buffer bitmap_;
};

// Where blocks had to move, the whole filesystem is audited and its content compared instead.
bool clears_way(const Plan& plan) {
  return std::any_of(plan.steps.begin(), plan.steps.end(),
                     [](const Step& step) { return step.kind == StepKind::clear_way; });
}

class Prover {
 public:
  Prover(const Guest& before, const Plan& plan, std::size_t disk, Stage& stage)
      : before_(before), disk_(disk), stage_(stage) {
    if (!plan.target.empty() && plan.target_disk == disk)
      target_ = place_of(before, disk, plan.target_partition);
    target_may_change_ = clears_way(plan);
    if (target_ != nullptr && target_->content.ext)
      footprint_ =
          std::make_unique<GrowthFootprint>(*target_->content.ext, target_->content.at_rest.get());
  }

  // No byte outside of the tables and of the target's own metadata may differ.
  void check_writes() {
    stage_.for_each_change([&](std::uint64_t at, ConstByteSpan old, ConstByteSpan fresh) {
      constexpr std::size_t unit = 512;
      for (std::size_t i = 0; i < fresh.size(); i += unit) {
        const std::size_t length = std::min(unit, fresh.size() - i);
        if (std::memcmp(old.data() + i, fresh.data() + i, length) != 0) check_range(at + i, length);
      }
    });
    stage_.for_each_direct([&](std::uint64_t at, std::uint64_t length) {
      for (std::uint64_t done = 0; done < length; done += 1024)
        check_range(at + done, std::min<std::uint64_t>(1024, length - done));
    });
  }

 private:
  void check_range(std::uint64_t at, std::uint64_t length) {
    for (const Place& place : before_.disks()[disk_].places) {
      const std::uint64_t start = place.offset.value();
      if (at + length <= start || at >= start + place.size.value()) continue;
      if (place.content.kind == ContentKind::extended) continue;
      if (&place != target_)
        failed(fmt::format("byte {} of {} would change", at, before_.name_of(place)),
               stage_.name());
      if (target_may_change_) continue;
      if (!footprint_) failed("the content of the target would change", stage_.name());
      const ext::Geometry& g = target_->content.ext->geometry();
      for (std::uint64_t b = (std::max(at, start) - start) / g.block_size;
           b < g.blocks && b * g.block_size < at + length - start; ++b)
        if (!footprint_->allows(b))
          failed(fmt::format("block {}, which is in use, would change", b), stage_.name());
    }
  }

  const Guest& before_;
  std::size_t disk_;
  Stage& stage_;
  const Place* target_ = nullptr;
  bool target_may_change_ = false;
  std::unique_ptr<GrowthFootprint> footprint_;
};

void check_tables(const Guest& before, const Guest& after, const Plan& plan) {
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& old_disk = before.disks()[i];
    const Disk& new_disk = after.disks()[i];
    const std::string& where = new_disk.path;
    if (new_disk.size() != plan.disks[i].to)
      failed(fmt::format("the disk has {} bytes", new_disk.size().value()), where);
    if (new_disk.trouble) failed(new_disk.trouble->what(), where);
    if ((old_disk.table == nullptr) != (new_disk.table == nullptr))
      failed("the partition table is gone", where);
    if (!new_disk.table) continue;
    const TableFacts& facts = new_disk.table->facts();
    if (!facts.blockers.empty()) failed(facts.blockers.front().what(), where);
    if (plan.touches(i) && (!facts.repairs.empty() || new_disk.table->must_move_spare()))
      failed("the partition table is not in order", where);
    if (facts.partitions.size() != old_disk.table->facts().partitions.size())
      failed("the number of partitions differs", where);
    for (const Partition& old : old_disk.table->facts().partitions) {
      const Partition* now = new_disk.table->find(old.number);
      Sectors end = old.end();
      for (const Step& step : plan.steps)
        if (step.kind == StepKind::grow_partition && step.disk == i && step.partition == old.number)
          end = step.new_end;
      if (now == nullptr || now->first != old.first || now->end() != end ||
          now->type_code != old.type_code || now->part_uuid != old.part_uuid ||
          now->label != old.label || now->role != old.role)
        failed(fmt::format("partition {} is not as planned", old.number), where);
    }
  }
}

std::uint32_t digest_content(ext::Filesystem& fs, const ext::InodeRecord& inode,
                             std::uint32_t digest) {
  ext::BlockVisitor visitor;
  visitor.data = [&](const ext::MappedRun& run) {
    digest = crc32c_raw(digest, bytes_of(run.logical));
    constexpr std::uint64_t piece = 256;
    for (std::uint64_t done = 0; !run.unwritten && done < run.count; done += piece)
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

void check_findings(const Findings& findings) {
  if (!findings.clean()) failed(findings.kept().front().what, findings.kept().front().where);
}

}  // namespace

void check_sound(const Guest& guest, const Plan& plan, Progress& progress) {
  for (const Step& step : plan.steps) {
    if (step.kind != StepKind::grow_ext) continue;
    const Place* place = place_of(guest, step.disk, step.partition);
    ext::Filesystem& fs = *place->content.ext;
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

void prove(const Guest& before, const Plan& plan, Transaction& transaction, ProofEffort effort,
           Progress& progress) {
  std::vector<Guest::Image> images;
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    images.push_back({before.disks()[i].path, &transaction.stage(i)});
    Prover(before, plan, i, transaction.stage(i)).check_writes();
  }
  std::uint32_t sector_size = 0;
  for (const Disk& disk : before.disks())
    if (disk.table) sector_size = disk.table->facts().sector_size;
  const Guest after(images, before.disks().size() == 1 ? sector_size : 0);
  check_tables(before, after, plan);
  for (const Step& step : plan.steps) {
    if (step.kind != StepKind::grow_ext) continue;
    const Place* old_place = place_of(before, step.disk, step.partition);
    const Place* new_place = place_of(after, step.disk, step.partition);
    const std::string where = after.disks()[step.disk].path + ", " + step.layer;
    if (new_place == nullptr || !new_place->content.ext)
      failed("the filesystem cannot be opened", where);
    if (!new_place->content.blockers.empty())
      failed(new_place->content.blockers.front().what(), where);
    if (new_place->content.size != step.to) failed("the filesystem has another size", where);
    if (new_place->content.uuid != old_place->content.uuid ||
        new_place->content.label != old_place->content.label)
      failed("the filesystem has another identity", where);
    Findings findings;
    const std::uint32_t last_old = old_place->content.ext->geometry().group_count - 1;
    ext::AuditRequest request{ext::AuditScope::structure, last_old};
    const bool moved = clears_way(plan);
    if (effort == ProofEffort::full || moved) request = {};
    ext::audit(*new_place->content.ext, request, findings, progress);
    check_findings(findings);
    if ((effort == ProofEffort::full || moved) &&
        tree_digest(*old_place->content.ext, moved) != tree_digest(*new_place->content.ext, moved))
      failed("the directory tree differs", where);
  }
}

}  // namespace jh
