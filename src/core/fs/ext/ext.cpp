#include "core/fs/ext/ext.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/uuid.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/relocate.h"
#include "core/fs/ext/rest.h"
#include "core/fs/ext/shrink.h"
#include "core/fs/ext/tree.h"
#include "core/fs/text_at.h"

namespace jh::ext {

std::optional<std::string> ExtFilesystem::read_text(const std::string& path, std::uint64_t limit) {
  return ext::read_text(fs_, path, limit);
}

FilesystemFloor ExtFilesystem::floor() {
  const Floor found = find_floor(fs_);
  return {bytes(found.blocks), found.reason};
}

ResizePlan ExtFilesystem::plan_resize(Bytes size) {
  const std::uint64_t blocks = size.value() / fs_.geometry().block_size;
  return blocks < fs_.geometry().blocks ? plan_shrinking(blocks) : plan_growth(blocks);
}

ResizePlan ExtFilesystem::plan_growth(std::uint64_t blocks) {
  const GrowPlan growth = plan_grow(fs_, blocks);
  const std::uint64_t bs = growth.after.block_size;
  ResizePlan plan{bytes(growth.before.blocks), bytes(growth.after.blocks)};
  plan.notes = growth.notes;
  if (!growth.changes()) return plan;
  if (growth.descriptor_overrun() != 0) {
    // Which blocks lie there is seen when they are moved; the plan names the most it can be.
    plan.preparation = fmt::format("move what lies in the way of {} further descriptor blocks",
                                   growth.descriptor_overrun());
    plan.moves_content = true;
    for (const BlockRange& run : table_way(growth))
      plan.bytes_to_write += (run.count + growth.before.itable_blocks) * bs;
  }
  const std::uint32_t groups = growth.after.group_count - growth.before.group_count;
  plan.words =
      groups == 0 ? "extend the last block group" : fmt::format("add {} block groups", groups);
  plan.bytes_to_write += growth.bytes_to_write;
  return plan;
}

ResizePlan ExtFilesystem::plan_shrinking(std::uint64_t blocks) {
  const ShrinkPlan shrinking = plan_shrink(fs_, blocks);
  ResizePlan plan{bytes(shrinking.before.blocks), bytes(shrinking.after.blocks)};
  plan.notes = shrinking.notes;
  plan.moves_content = true;
  plan.to_move = bytes(shrinking.blocks_to_move);
  plan.words = plan.to_move == Bytes(0) ? "shrink the filesystem; nothing has to move"
                                        : fmt::format("shrink the filesystem; {} move to the front",
                                                      human(plan.to_move));
  if (shrinking.inodes_to_move != 0)
    plan.words += fmt::format(", {} inodes get new numbers", grouped(shrinking.inodes_to_move));
  plan.bytes_to_write = shrinking.bytes_to_write - plan.to_move.value();
  return plan;
}

void ExtFilesystem::prepare(Bytes size, Progress& progress) {
  clear_table_way(fs_.store(), size.value() / fs_.geometry().block_size, progress);
}

void ExtFilesystem::resize(Bytes size, Progress& progress) {
  const std::uint64_t blocks = size.value() / fs_.geometry().block_size;
  if (blocks < fs_.geometry().blocks) {
    const ShrinkPlan shrinking = plan_shrink(fs_, blocks);
    ensure(bytes(shrinking.after.blocks) == size, "the filesystem shrinks as planned");
    shrink(fs_, shrinking, progress);
    return;
  }
  const GrowPlan growth = plan_grow(fs_, blocks);
  ensure(bytes(growth.after.blocks) == size, "the filesystem grows as planned");
  grow(fs_, growth);
}

void ExtFilesystem::audit(jh::AuditScope scope, Bytes from, Findings& findings,
                          Progress& progress) {
  AuditRequest request;
  if (scope <= jh::AuditScope::structure) {
    const Geometry& g = fs_.geometry();
    // The group that the byte in front lies in may have become longer.
    const std::uint64_t block = from.value() / g.block_size;
    const std::uint64_t last =
        std::clamp(block, std::uint64_t{g.first_data_block} + 1, g.blocks) - 1;
    request = {scope, g.group_of(last)};
  }
  ext::audit(fs_, request, findings, progress);
}

void ExtFilesystem::audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) {
  auto* old = dynamic_cast<ExtFilesystem*>(&before);
  ensure(old != nullptr, "both states are of one kind");
  ext::audit_kept(old->fs_, fs_, content_moves, findings);
}

void ExtFilesystem::note_own_blocks() {
  const Geometry& g = fs_.geometry();
  std::vector<std::uint64_t> own{fs_.group(g.group_count - 1).block_bitmap};
  if (g.has_compat(compat::resize_inode)) {
    own.push_back(fs_.inode_offset(resize_ino) / g.block_size);
    own.push_back(fs_.read_inode(resize_ino).fields.block[13].value());
  }
  std::sort(own.begin(), own.end());
  own_ = std::move(own);
}

bool ExtFilesystem::is_kept(std::uint64_t block) {
  const Geometry& g = fs_.geometry();
  if (!own_) note_own_blocks();
  if (!g.is_block(block) || std::binary_search(own_->begin(), own_->end(), block)) return false;
  const std::uint32_t group = g.group_of(block);
  for (const BlockRange& run : g.base_metadata(group))
    if (block >= run.start && block < run.end()) return false;
  if (group != bitmap_group_) {
    bitmap_ = fs_.block_bitmap(group);
    bitmap_group_ = group;
  }
  return test_bit(bitmap_, (block - g.group_first(group)) / g.cluster_ratio);
}

std::optional<std::uint64_t> ExtFilesystem::first_kept(std::uint64_t at, std::uint64_t length) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t end = at + length;
  for (std::uint64_t block = at / g.block_size; block < g.blocks && g.offset(block) < end; ++block)
    if (is_kept(block)) return std::max(at, g.offset(block));
  return std::nullopt;
}

void ExtFilesystem::for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  const Geometry& g = fs_.geometry();
  for (std::uint32_t group = 0; group < g.group_count; ++group) {
    const Buffer bitmap = fs_.block_bitmap(group);
    // A bitmap that does not fit its own checksum says nothing that could be relied on.
    if (!fs_.block_bitmap_checksum_ok(fs_.group(group), bitmap)) continue;
    const std::uint64_t clusters = g.group_clusters(group);
    for (std::uint64_t bit = 0; bit < clusters;) {
      if (bit % 8 == 0 && bitmap[bit / 8] == 0xFF) {
        bit += 8;
        continue;
      }
      if (test_bit(bitmap, bit)) {
        ++bit;
        continue;
      }
      const std::uint64_t start = bit;
      while (bit < clusters && !test_bit(bitmap, bit)) ++bit;
      const std::uint64_t first = g.group_first(group) + start * g.cluster_ratio;
      const std::uint64_t end = std::min(g.blocks, g.group_first(group) + bit * g.cluster_ratio);
      visit(g.offset(first), g.offset(end));
    }
  }
}

std::unique_ptr<FileTree> ExtFilesystem::tree() { return std::make_unique<ExtTree>(fs_); }

namespace {

// The name a guest would give it: what tells the generations apart is their features.
std::string generation(const Geometry& g) {
  if (g.has_incompat(incompat::extents | incompat::bit64 | incompat::flex_bg) ||
      g.has_ro_compat(ro_compat::huge_file | ro_compat::metadata_csum))
    return "ext4";
  return g.has_compat(compat::has_journal) ? "ext3" : "ext2";
}

void check_state(Filesystem& fs, bool replayed, LayerFacts& facts) {
  const std::uint16_t state = fs.super().state.value();
  const auto block = [&](Reason reason, std::string word, const std::string& what,
                         const std::string& next) {
    facts.state = std::move(word);
    facts.blockers.push_back(
        Error(Status::refused, what, "ext superblock", next).with_reason(reason));
  };
  facts.state = replayed ? "needs journal replay" : "clean";
  if ((state & state_errors) != 0)
    block(Reason::errors_noted, "has errors",
          "the guest has marked the filesystem as having errors",
          "let the guest check it (at its next start, or from a rescue system), then run again");
  else if ((state & state_clean) == 0)
    block(Reason::not_unmounted, "not cleanly unmounted",
          "the filesystem was not cleanly unmounted, and has no journal to put it right",
          "start the guest once and shut it down properly, then run again");
  if (!fs.geometry().has_incompat(incompat::mmp)) return;
  const auto mmp = parse_as<MmpBlock>(fs.read_block(fs.super().mmp_block.value()), 0);
  if (mmp.magic.value() == mmp_magic && mmp.seq.value() == mmp_clean) return;
  block(Reason::in_use, "in use",
        "its multiple-mount protection says that the filesystem is in use",
        "shut down every host that may have it mounted; after a crash, let the guest check it");
}

// A filesystem that was not cleanly unmounted is looked at as it will be: its journal is replayed
// in memory. What stands in the way of that stands in the way of every change.
void replay_in_memory(Store& place, OpenedFilesystem& found) {
  const auto super = read_as<Superblock>(place, superblock_offset);
  const bool has_errors = (super.state.value() & state_errors) != 0;
  if (is_at_rest(super) || has_errors) return;
  found.at_rest = std::make_unique<ScratchStore>(place);
  const RestReport report = bring_to_rest(*found.at_rest);
  found.replay = {report.text(), "replay the journal: " + report.text(), report.blocks + 64};
}

OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  facts.name = "ext";
  try {
    try {
      replay_in_memory(place, found);
    } catch (const Error& error) {
      found.at_rest.reset();
      facts.blockers.push_back(error);
    }
    Store& seen = found.at_rest ? static_cast<Store&>(*found.at_rest) : place;
    auto opened = std::make_unique<ExtFilesystem>(seen);
    Filesystem& fs = opened->inner();
    found.filesystem = std::move(opened);
    const Geometry& g = fs.geometry();
    if (found.replay) found.replay->bytes_to_write *= g.block_size;
    facts.name = generation(g);
    facts.label = fs.label();
    facts.uuid = uuid_text(fs.super().uuid);
    facts.size = Bytes(checked_mul(g.blocks, g.block_size));
    const std::uint64_t free = std::min(g.blocks, checked_mul(fs.free_clusters(), g.cluster_ratio));
    facts.used = Bytes((g.blocks - free) * g.block_size);
    check_state(fs, found.replay.has_value(), facts);
    if (found.at_rest == nullptr && !is_at_rest(fs.super())) facts.state = "not cleanly unmounted";
  } catch (const Error& error) {
    facts.state = error.status() == Status::unsupported ? "not supported" : "damaged";
    facts.blockers.push_back(error);
  }
  return found;
}

std::uint64_t claimed_size(Store& place) {
  const auto super = read_as<Superblock>(place, superblock_offset);
  const std::uint64_t high =
      (super.feature_incompat.value() & incompat::bit64) != 0 ? super.blocks_count_hi.value() : 0;
  const std::uint64_t blocks = super.blocks_count_lo.value() | high << 32;
  return checked_mul(blocks, 1024ULL << (super.log_block_size.value() & 15));
}

void read_names(Store& place, LayerFacts& facts) {
  const auto super = read_as<Superblock>(place, superblock_offset);
  facts.name = "ext";
  facts.label = text_at(place, superblock_offset + offsetof(Superblock, volume_name),
                        sizeof(super.volume_name));
  facts.uuid = uuid_text(super.uuid);
  facts.size = Bytes(claimed_size(place));
  if ((super.state.value() & state_errors) != 0)
    facts.blockers.push_back(
        Error(Status::refused, "errors are noted in it, and its driver makes no such one larger",
              "ext", "let the system check it at its next start, then run this again")
            .with_reason(Reason::errors_noted));
  if ((super.feature_compat.value() & compat::sparse_super2) != 0)
    facts.blockers.push_back(Error(
        Status::unsupported, "it keeps two backup copies of its superblock only (sparse_super2)",
        "ext", "shut the system down, and grow its disk from outside"));
}

FilesystemKind make_kind() {
  auto made = audited_kind<ExtFilesystem>("ext", Filesystem::recognise, open, claimed_size);
  made.resizable = made.holds_files = true;
  made.while_mounted = read_names;
  made.replay_journal = [](Store& place) { bring_to_rest(place); };
  return made;
}

}  // namespace

const FilesystemKind kind = make_kind();

}  // namespace jh::ext
