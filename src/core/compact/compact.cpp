#include "core/compact/compact.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"
#include "core/base/stopped.h"
#include "core/compact/reclaimable.h"
#include "core/compact/used_only.h"
#include "core/guest/audit.h"
#include "core/plan/content.h"
#include "core/proof/snapshots.h"
#include "core/proof/verdict.h"
#include "core/staged/disk_compare.h"
#include "core/store/ledger_format.h"
#include "core/store/recovery.h"
#include "core/store/scratch_store.h"

namespace jh {
namespace {

constexpr std::uint64_t most_at_once = 1U << 20;
// Moved between two seals: what an interrupted run has to do again at most.
constexpr std::uint64_t bytes_per_step = 256U << 20;

void check_can(const Disk& disk, const ContainerFacts& facts) {
  // That it builds on others is no hindrance: only this file is touched.
  for (const Error& blocker : facts.blockers)
    if (blocker.reason() != Reason::has_parent) throw blocker;
  check_parts(disk, facts);
  if (facts.encrypted)
    unsupported("the image's content is encrypted: what of it is used cannot be seen", disk.path,
                "compact it in the hypervisor, which has the key");
  if (facts.format != ImageFormat::raw && facts.allocation == Allocation::full)
    refuse(fmt::format("a full {} image keeps every block, used or not", format_name(facts.format)),
           disk.path,
           "make it sparse:\n  " + suggest("recast", {disk.path, "NEW"}).with("store", "sparse") +
               "\nor compact it into a new one with --into");
}

// What there is to give back, whichever way it is done then.
struct Prospect {
  ContainerFacts facts;
  Unused unused;
  Reclaimable reclaimable;
  CompactFigures figures;
};

Prospect look_at(const Guest& guest, std::size_t index, Look look, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  Prospect found{disk.container->facts(), {}, {}, {}};
  check_awake(guest);
  check_claims(guest, index);
  check_can(disk, found.facts);
  check_image_sound(disk);
  found.unused = find_unused(guest, index);
  found.reclaimable = find_reclaimable(*disk.container, found.unused, look, progress);
  CompactFigures& figures = found.figures;
  figures.length_before = figures.length_after = found.facts.file_length.value();
  figures.files = files_of(disk);
  const auto& bytes = found.reclaimable.bytes;
  for (std::size_t i = 0; i < found.unused.sources.size(); ++i)
    if (bytes[i] != 0) figures.given_back.push_back({found.unused.sources[i], bytes[i]});
  if (found.reclaimable.zeros != 0)
    figures.given_back.push_back({"zeros", found.reclaimable.zeros});
  if (found.reclaimable.same != 0)
    figures.given_back.push_back({"the same as in the parent", found.reclaimable.same});
  figures.notes = found.unused.kept;
  if (look == Look::tables)
    figures.notes.emplace_back(
        "zeros in what is used are looked for when it is done: the file may become smaller yet");
  if (!found.reclaimable.zeros_seen)
    figures.notes.emplace_back(
        "no zeros were found in one block of 16 of what is used: the others were not read for "
        "them");
  return found;
}

void release(Container& container, const Reclaimable& reclaimable) {
  for (const auto& [start, end] : reclaimable.ranges) container.unmap(start, end - start);
  for (const auto& [start, end] : reclaimable.as_parent)
    container.reveal_parent(start, end - start);
}

// What was dropped reads as zeros now and was not used; everything else is the same.
void prove_same(Container& before, Container& after, const FileChanges& changes,
                ContentCheck& contents, const Unused& unused, const std::string& where) {
  if (after.disk().size() != before.disk().size()) proof_failed("the disk has another size", where);
  const auto unused_from = [&](std::uint64_t at, std::uint64_t length) {
    const auto [range, reach] = unused.stretch(at, length);
    return range == nullptr ? 0 : reach;
  };
  const auto differs = [&](std::uint64_t at, std::uint64_t length) {
    for (const std::uint64_t end = at + length; at < end;) {
      const std::uint64_t reach = unused_from(at, end - at);
      if (reach == 0) proof_failed(fmt::format("byte {} of the disk would change", at), where);
      at += reach;
    }
  };
  for_each_difference(before, after, changes, contents, {differs, unused_from});
}

// One step of a compaction: staged, proven, sealed; no undo is kept.
// `work` returns how many bytes it moved.
template <class Work>
Transferred sealed_step(Host& host, const Disk& disk, const Unused& unused, Sharing sharing,
                        Progress& progress, Work work) {
  bool wrote = false;
  Transferred moved;
  const auto step = [&] {
    FileSet files(host, disk);
    files.transaction().set_sharing(sharing);
    for (Stage* stage : files.stages()) stage->trust_unreferenced();
    const auto note_writes = [&] {
      for (Stage* stage : files.stages()) wrote |= stage->written_directly() != 0;
    };
    const auto container = open_container(files.stage(0), &files.resolver());
    try {
      container->make_ready();
      moved.copied = work(*container);
    } catch (const Error&) {
      note_writes();
      throw;
    }
    note_writes();
    for (Stage* stage : files.stages()) stage->flush();
    const auto before = open_container(files.old_state(0), &files.old_resolver());
    const auto after = open_container(files.stage(0), &files.resolver());
    Findings findings;
    after->audit(findings);
    if (!findings.clean())
      proof_failed(findings.kept().front().what, findings.kept().front().where);
    ContentCheck contents(files);
    const FileChanges changes = changed_files(files);
    prove_same(*before, *after, changes, contents, unused, disk.path);
    check_snapshots(*before, files.old_state(0), *after, files.stage(0), changes);
    files.transaction().seal(progress, /*keep_undo=*/false);
    for (const Stage* stage : files.stages()) moved.shared += stage->shared();
    moved.copied -= std::min(moved.copied, moved.shared);
  };
  try {
    telling_outcome(host, disk.path, step);
  } catch (const Stopped&) {
    throw;
  } catch (const Error& error) {
    // Gaps of the file may hold something else now.
    if (wrote && error.outcome() == Outcome::unchanged) throw error.with_outcome(Outcome::sound);
    throw;
  }
  return moved;
}

// Holes in the host's file: each of them changes nothing that anyone reads.
void punch(Host& host, const Disk& disk, const Reclaimable& reclaimable, Progress& progress) {
  const auto file = host.open(disk.path, Access::read_write);
  std::uint64_t total = 0;
  for (const auto& [start, end] : reclaimable.ranges) total += end - start;
  progress.begin("giving room back to the host", total);
  std::uint64_t done = 0;
  try {
    for (const auto& [start, end] : reclaimable.ranges) {
      file->discard(start, end - start);
      progress.advance(done += end - start);
    }
  } catch (const Stopped&) {
    throw Stopped(disk.path, fmt::format("{} of {} were given back so far", human(Bytes(done)),
                                         human(Bytes(total))));
  }
  file->flush();
  progress.end();
}

void write_zeros(Host& host, const Disk& disk, const Unused& unused, Progress& progress) {
  HostFileResolver resolver(host, Access::read_write);
  const auto file = host.open(disk.path, Access::read_write);
  const auto container = open_container(*file, &resolver);
  progress.begin("writing zeros over what is not used", unused.bytes());
  std::uint64_t done = 0;
  const Buffer zeros(most_at_once);
  const auto clear = [&](std::uint64_t at, std::uint64_t end) {
    while (at < end) {
      const Extent piece = container->extent_at(at, std::min(end - at, most_at_once));
      // Only where there is a place: nothing but content is written.
      if (piece.kind == Extent::Kind::data && !range_is_zero(*piece.store, piece.at, piece.length))
        piece.store->write(piece.at, ConstByteSpan(zeros).first(piece.length));
      at += piece.length;
      progress.advance(done += piece.length);
    }
  };
  try {
    for (const UnusedRange& range : unused.ranges) clear(range.start, range.end);
  } catch (const Stopped&) {
    throw Stopped(disk.path, fmt::format("{} of {} are zero so far", human(Bytes(done)),
                                         human(Bytes(unused.bytes()))));
  }
  container->disk().flush();
  progress.end();
}

// The same steps on a view in memory, where content need not really move. Tables of very large
// images go beside them.
constexpr std::uint64_t most_in_memory = 16U << 20;
struct Trial {
  std::uint64_t to_move = 0;
  std::size_t gap_closings = 0;  // steps that move compressed blocks
  std::uint64_t length_after = 0;
  std::uint64_t tables = 0;  // bytes that change, but for moved content
};

// The ledger of a step: old and new pages of tables, sums of what is moved and let go.
void check_room(Host& host, const Disk& disk, const Reclaimable& reclaimable, const Trial& trial) {
  if (reclaimable.empty() && trial.to_move == 0) return;
  constexpr std::uint64_t of_itself = 256U << 10;
  constexpr std::uint64_t record = sizeof(ledger::Record) + 8;
  const std::uint64_t sums =
      std::min(trial.to_move, bytes_per_step) / ledger::sector_size * sizeof(Le32);
  const std::uint64_t needed = of_itself + 2 * trial.tables + sums +
                               (reclaimable.ranges.size() + reclaimable.as_parent.size()) * record;
  const std::uint64_t free = host.free_space(disk.path);
  if (free < needed)
    refuse(fmt::format("the host has only {} free, and up to {} must be written beside the image",
                       human(Bytes(free)), human(Bytes(needed))),
           disk.path, "make room on the host's filesystem, then run again");
}

Trial try_out(Host& host, const Disk& disk, const Reclaimable& reclaimable) {
  HostFileResolver others(host);
  ListedFileResolver resolver(&others);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<std::unique_ptr<ScratchStore>> scratch;
  for (const std::string& path : files_of(disk)) {
    files.push_back(host.open(path, Access::read_only));
    auto spill = host.create_unnamed(path);
    scratch.push_back(spill == nullptr ? std::make_unique<ScratchStore>(*files.back())
                                       : std::make_unique<ScratchStore>(
                                             *files.back(), std::move(spill), most_in_memory));
    resolver.add(path, *scratch.back());
  }
  const auto trial = open_container(*scratch.front(), &resolver);
  trial->move_tables_only();
  trial->make_ready();
  release(*trial, reclaimable);
  Trial found;
  while (const std::uint64_t moved = trial->close_gaps(bytes_per_step, found.gap_closings == 0)) {
    found.to_move += moved;
    ++found.gap_closings;
  }
  found.to_move += trial->relocate_tail(UINT64_MAX);
  found.length_after = trial->facts().file_length.value();
  for (const auto& view : scratch) found.tables += view->changed();
  return found;
}

// One piece of work over many steps: what a step reports by itself does not reach the user, but he
// can stop it.
class AggregateProgress final : public Progress {
 public:
  explicit AggregateProgress(Progress& outer) : outer_(outer) {}
  void begin(const std::string&, std::uint64_t) override {}
  void advance(std::uint64_t) override { outer_.advance(done_); }
  void end() override {}
  void add(std::uint64_t bytes) { done_ += bytes; }

 private:
  Progress& outer_;
  std::uint64_t done_ = 0;
};

std::uint64_t length_now(Host& host, const Disk& disk) {
  HostFileResolver others(host);
  const auto file = host.open(disk.path, Access::read_only);
  return open_container(*file, &others)->facts().file_length.value();
}

// As many blocks as a list in memory may have.
std::uint64_t shared_per_step(Container& container) {
  constexpr std::uint64_t most = 4ULL << 30;
  constexpr std::uint64_t blocks = 65'536;
  return std::clamp(blocks * container.facts().block_size.value(), bytes_per_step, most);
}

// Reclaimable and moves in sealed steps.
Transferred relocate_tail_in_steps(Host& host, const Disk& disk, const Unused& unused,
                                   const Reclaimable& reclaimable, std::uint64_t length_before,
                                   Sharing sharing, Progress& progress) {
  const Trial trial = failing_with(Outcome::unchanged, [&] {
    Trial tried = try_out(host, disk, reclaimable);
    check_room(host, disk, reclaimable, tried);
    return tried;
  });
  Transferred moved;
  bool dropped = false;
  try {
    if (!reclaimable.empty()) {
      progress.begin("releasing what is not used", 0);
      AggregateProgress step(progress);
      sealed_step(host, disk, unused, sharing, step, [&](Container& container) {
        release(container, reclaimable);
        return std::uint64_t{0};
      });
      dropped = true;
      progress.end();
    }
    progress.begin("moving the end of the file to the front", trial.to_move);
    AggregateProgress steps(progress);
    const auto step = [&](auto work) {
      const Transferred last = sealed_step(host, disk, unused, sharing, steps, work);
      moved += last;
      steps.add(last.total());
      return last;
    };
    for (std::size_t i = 0; i < trial.gap_closings; ++i)
      step([&](Container& container) {
        return container.close_gaps(bytes_per_step, /*first=*/i == 0);
      });
    std::uint64_t most = bytes_per_step;
    for (bool goes_on = true; goes_on;) {
      const Transferred last =
          step([&](Container& container) { return container.relocate_tail(most); });
      // A step that moved clearly less than it might have was the last one.
      goes_on = last.total() >= most - most / 4;
      // What is shared is done at once: most of the time would go to the seals.
      if (last.total() != 0 && last.shared >= last.total() / 2)
        most = shared_per_step(*disk.container);
    }
    progress.end();
  } catch (const Stopped&) {
    if (!dropped && moved.total() == 0) throw;
    const std::uint64_t now = length_now(host, disk);
    throw Stopped(disk.path,
                  fmt::format("{} of {} were moved so far, and the file is {} shorter",
                              human(Bytes(moved.total())), human(Bytes(trial.to_move)),
                              human(Bytes(length_before - std::min(length_before, now)))));
  } catch (const Error& error) {
    // Steps that are sealed stay.
    if ((!dropped && moved.total() == 0) || error.outcome() == Outcome::unfinished) throw;
    throw error.with_outcome(Outcome::sound);
  }
  return moved;
}

}  // namespace

CompactFigures plan_compact(Host& host, const Guest& guest, std::size_t index, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  // What its parent holds as well may be most of it: that is compared before too.
  const bool has_parent = !disk.container->facts().parents.empty();
  auto [facts, unused, reclaimable, figures] =
      look_at(guest, index, has_parent ? Look::content : Look::tables, progress);
  if (facts.format == ImageFormat::raw) return figures;
  const Trial trial = try_out(host, disk, reclaimable);
  figures.to_move = trial.to_move;
  figures.length_after = trial.length_after;
  return figures;
}

CompactFigures compact_in_place(Host& host, const Guest& guest, std::size_t index, bool zero_free,
                                Sharing sharing, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  Prospect found = failing_with(Outcome::unchanged,
                                [&] { return look_at(guest, index, Look::content, progress); });
  CompactFigures& figures = found.figures;
  failing_with(Outcome::sound, [&] {
    // What the change before freed, and would need again, may go now.
    if (end_undo(host, disk.path))
      figures.notes.emplace_back("the change before this one can no longer be taken back");
    if (found.facts.format == ImageFormat::raw) {
      punch(host, disk, found.reclaimable, progress);
    } else {
      const Transferred moved = relocate_tail_in_steps(host, disk, found.unused, found.reclaimable,
                                                       figures.length_before, sharing, progress);
      figures.to_move = moved.total();
      figures.shared = moved.shared;
    }
    if (zero_free) write_zeros(host, disk, found.unused, progress);
    figures.length_after = length_now(host, disk);
  });
  return figures;
}

}  // namespace jh
