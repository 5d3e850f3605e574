#include "core/change/compact.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/change/footprint.h"
#include "core/change/proof.h"
#include "core/store/old_state.h"
#include "core/store/scratch_store.h"
#include "core/store/transaction.h"

namespace jh {
namespace {

constexpr std::uint64_t page = 4096;
constexpr std::uint64_t most_at_once = 1U << 20;
// Moved between two seals: what an interrupted run has to do again at most.
constexpr std::uint64_t bytes_per_step = 256U << 20;

struct DropRange {
  std::uint64_t start = 0;
  std::uint64_t end = 0;
};

struct Drops {
  std::vector<DropRange> ranges;     // whole units that lose their place, in order
  std::vector<std::uint64_t> bytes;  // by source; the last one: zeros
};

// Looks at every unit of the disk that is kept: unused as a whole, or zero where it is used?
class Search {
 public:
  Search(Container& container, const Unused& unused, std::uint64_t unit)
      : container_(container),
        unused_(unused),
        unit_(unit),
        has_parents_(!container.facts().parents.empty()),
        parts_(container.facts().parts) {
    drops_.bytes.resize(unused.sources.size() + 1);
  }

  Drops run(Progress& progress) {
    const std::uint64_t size = container_.disk().size();
    progress.begin("looking for what is not used", size);
    for (std::uint64_t at = 0; at < size;) {
      const Piece piece = container_.piece_at(at, size - at);
      const bool kept = is_own(piece);
      std::uint64_t length = piece.length;
      if (kept && piece.kind == Piece::Kind::data && is_raw()) {
        const Run run = piece.store->map(piece.at, piece.length);
        length = run.length;
        if (!run.zero) look_at(at, length);
      } else if (kept) {
        look_at(at, length);
      }
      at += length;
      progress.advance(at);
    }
    progress.end();
    return std::move(drops_);
  }

 private:
  // Parents are not ours to compact.
  bool is_own(const Piece& piece) const {
    if (piece.kind == Piece::Kind::packed) return !has_parents_;
    return piece.kind == Piece::Kind::data &&
           (!has_parents_ || piece.store->name() == container_.disk().name() ||
            std::find(parts_.begin(), parts_.end(), piece.store->name()) != parts_.end());
  }
  bool is_raw() const { return container_.facts().form == Form::raw; }

  // Units that a stretch has a part in; one that the stretch before had a part in is done.
  void look_at(std::uint64_t at, std::uint64_t length) {
    const std::uint64_t size = container_.disk().size();
    const std::uint64_t end = round_up(at + length, unit_);
    for (std::uint64_t unit = std::max(done_, round_down(at, unit_)); unit < end; unit += unit_) {
      done_ = unit + unit_;
      const std::uint64_t stop = std::min(size, unit + unit_);
      if (!is_needless(unit, stop)) continue;
      if (!drops_.ranges.empty() && drops_.ranges.back().end == unit)
        drops_.ranges.back().end = stop;
      else
        drops_.ranges.push_back({unit, stop});
    }
  }

  // Counts what it is by its sources on the way.
  bool is_needless(std::uint64_t start, std::uint64_t end) {
    std::vector<std::pair<std::uint32_t, std::uint64_t>> shares;
    std::uint64_t zeros = 0;
    std::size_t range = unused_.first_behind(start);
    for (std::uint64_t at = start; at < end;) {
      const bool there = range < unused_.ranges.size() && unused_.ranges[range].start <= at;
      if (there) {
        const std::uint64_t stop = std::min(end, unused_.ranges[range].end);
        shares.emplace_back(unused_.ranges[range].source, stop - at);
        at = stop;
        ++range;
        continue;
      }
      const std::uint64_t stop =
          range < unused_.ranges.size() ? std::min(end, unused_.ranges[range].start) : end;
      if (!is_zero(at, stop)) return false;
      zeros += stop - at;
      at = stop;
    }
    for (const auto& [source, bytes] : shares) drops_.bytes[source] += bytes;
    drops_.bytes.back() += zeros;
    return true;
  }

  bool is_zero(std::uint64_t start, std::uint64_t end) {
    for (std::uint64_t at = start; at < end; at += page) {
      const std::uint64_t step = std::min(page, end - at);
      buffer_.resize(step);
      // Most content shows in its first page that it is none of zeros.
      container_.disk().read(at, buffer_);
      if (!all_zero(buffer_)) return false;
    }
    return true;
  }

  Container& container_;
  const Unused& unused_;
  std::uint64_t unit_;
  bool has_parents_;
  std::vector<std::string> parts_;
  std::uint64_t done_ = 0;
  Buffer buffer_;
  Drops drops_;
};

void check_can(const Disk& disk, const ContainerFacts& facts) {
  // That it builds on others is no hindrance: only this file is touched.
  const std::size_t harmless = facts.parents.empty() ? 0 : 1;
  if (facts.blockers.size() > harmless) {
    for (const Error& blocker : facts.blockers)
      if (facts.parents.empty() ||
          std::string(blocker.what()).find(facts.parents.front()) == std::string::npos)
        throw blocker;
  }
  if (facts.encrypted)
    unsupported("the image's content is encrypted: what of it is used cannot be seen", disk.path,
                "compact it in the hypervisor, which has the key");
  if (facts.form != Form::raw && facts.keeping == Keeping::full)
    refuse(fmt::format("a full {} image keeps every block, used or not", form_name(facts.form)),
           disk.path,
           "make it sparse:\n  juneheath recast " + disk.path +
               " NEW --store sparse\nor compact it "
               "into a new one with --into");
}

std::uint64_t unit_of(const ContainerFacts& facts) {
  return facts.form == Form::raw ? page : facts.block_size.value();
}

CompactFigures figures_of(const Disk& disk, const Unused& unused, const Drops& drops) {
  CompactFigures figures;
  figures.length_before = disk.container->facts().file_length.value();
  figures.length_after = figures.length_before;
  figures.files = files_of(disk);
  for (std::size_t i = 0; i < unused.sources.size(); ++i)
    if (drops.bytes[i] != 0) figures.given_back.push_back({unused.sources[i], drops.bytes[i]});
  if (drops.bytes.back() != 0) figures.given_back.push_back({"zeros", drops.bytes.back()});
  figures.notes = unused.kept;
  return figures;
}

// What was dropped reads as zeros now and was not used; everything else is the same. Content that
// lies where it lay is not read.
void prove_same(Container& before, Container& after, const Unused& unused,
                const std::string& where) {
  const std::uint64_t size = before.disk().size();
  if (after.disk().size() != size) proof_failed("the disk has another size", where);
  Buffer old;
  Buffer now;
  for (std::uint64_t at = 0; at < size;) {
    const Piece was = before.piece_at(at, size - at);
    const Piece is = after.piece_at(at, was.length);
    std::uint64_t length = is.length;
    const bool same = was.kind == is.kind && (was.kind == Piece::Kind::zero ||
                                              (was.kind == Piece::Kind::data && was.at == is.at &&
                                               was.store->name() == is.store->name()));
    if (!same) {
      length = std::min(length, most_at_once);
      old.resize(length);
      now.resize(length);
      before.disk().read(at, old);
      after.disk().read(at, now);
      for (std::uint64_t i = 0; i < length; i += 512) {
        const std::uint64_t step = std::min<std::uint64_t>(512, length - i);
        if (std::memcmp(&old[i], &now[i], step) == 0) continue;
        const std::size_t range = unused.first_behind(at + i);
        const bool free = range < unused.ranges.size() && unused.ranges[range].start <= at + i &&
                          unused.ranges[range].end >= at + i + step;
        if (!free) proof_failed(fmt::format("byte {} of the disk would change", at + i), where);
      }
    }
    at += length;
  }
}

// One step of a compaction: staged, proven, sealed; no undo is kept.
template <class Work>
void sealed_step(Host& host, const Disk& disk, const Unused& unused, Progress& progress,
                 Work work) {
  const std::vector<std::string> paths = files_of(disk);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<Store*> stores;
  for (const std::string& path : paths) {
    files.push_back(host.open(path, Access::read_write));
    stores.push_back(files.back().get());
  }
  HostNeighbours others(host);
  Transaction transaction(host, paths, stores);
  ListedNeighbours staged(&others);
  ListedNeighbours old(&others);
  std::vector<std::unique_ptr<OldState>> old_states;
  for (std::size_t i = 0; i < paths.size(); ++i) {
    transaction.stage(i).trust_unreferenced();
    staged.add(paths[i], transaction.stage(i));
    old_states.push_back(std::make_unique<OldState>(transaction.stage(i)));
    old.add(paths[i], *old_states.back());
  }
  const auto container = open_container(transaction.stage(0), &staged);
  container->make_ready();
  work(*container);
  for (std::size_t i = 0; i < paths.size(); ++i) transaction.stage(i).flush();
  const auto before = open_container(*old_states[0], &old);
  const auto after = open_container(transaction.stage(0), &staged);
  Findings findings;
  after->audit(findings);
  if (!findings.clean()) proof_failed(findings.kept().front().what, findings.kept().front().where);
  prove_same(*before, *after, unused, disk.path);
  transaction.seal(progress, /*keep_undo=*/false);
}

// Holes in the host's file: each of them changes nothing that anyone reads.
void punch(Host& host, const Disk& disk, const Drops& drops, Progress& progress) {
  const auto file = host.open(disk.path, Access::read_write);
  std::uint64_t total = 0;
  for (const DropRange& range : drops.ranges) total += range.end - range.start;
  progress.begin("giving room back to the host", total);
  std::uint64_t done = 0;
  for (const DropRange& range : drops.ranges) {
    file->discard(range.start, range.end - range.start);
    progress.advance(done += range.end - range.start);
  }
  file->flush();
  progress.end();
}

void write_zeros(Host& host, const Disk& disk, const Unused& unused, Progress& progress) {
  HostNeighbours beside(host, Access::read_write);
  const auto file = host.open(disk.path, Access::read_write);
  const auto container = open_container(*file, &beside);
  progress.begin("writing zeros over what is not used", unused.bytes());
  std::uint64_t done = 0;
  const Buffer zeros(most_at_once);
  for (const UnusedRange& range : unused.ranges) {
    for (std::uint64_t at = range.start; at < range.end;) {
      const Piece piece = container->piece_at(at, range.end - at);
      const std::uint64_t step = std::min(piece.length, most_at_once);
      // Only where there is a place: nothing but content is written.
      if (piece.kind == Piece::Kind::data && !range_is_zero(*piece.store, piece.at, step))
        piece.store->write(piece.at, ConstByteSpan(zeros).first(step));
      at += step;
      progress.advance(done += step);
    }
  }
  container->disk().flush();
  progress.end();
}

// The disk without what is not used: that reads as zeros.
class UsedOnly final : public Container {
 public:
  UsedOnly(Container& whole, const Unused& unused) : whole_(whole), unused_(unused), disk_(*this) {}
  ContainerFacts facts() override { return whole_.facts(); }
  Store& disk() override { return disk_; }
  Piece piece_at(std::uint64_t offset, std::uint64_t length) override {
    const auto [free, stop] = stretch(offset, length);
    if (free) return {Piece::Kind::zero, stop, nullptr, 0};
    return whole_.piece_at(offset, stop);
  }
  void check_growth(Bytes) override {}
  void grow(Bytes) override { ensure(false, "this disk is only read"); }
  Bytes size_unit() override { return whole_.size_unit(); }
  void audit(Findings& findings) override { whole_.audit(findings); }

 private:
  // Whether what begins there is unused, and how far that, or the opposite, reaches.
  std::pair<bool, std::uint64_t> stretch(std::uint64_t offset, std::uint64_t length) const {
    const std::size_t range = unused_.first_behind(offset);
    if (range == unused_.ranges.size()) return {false, length};
    const UnusedRange& next = unused_.ranges[range];
    if (next.start <= offset) return {true, std::min(length, next.end - offset)};
    return {false, std::min(length, next.start - offset)};
  }

  class View final : public Store {
   public:
    explicit View(UsedOnly& owner) : owner_(owner) {}
    std::uint64_t size() const override { return owner_.whole_.disk().size(); }
    void read(std::uint64_t offset, ByteSpan out) override {
      check_range(offset, out.size());
      owner_.whole_.disk().read(offset, out);
      for (std::uint64_t at = offset; at < offset + out.size();) {
        const auto [free, length] = owner_.stretch(at, offset + out.size() - at);
        if (free) std::memset(out.data() + (at - offset), 0, length);
        at += length;
      }
    }
    Run map(std::uint64_t offset, std::uint64_t length) override {
      check_range(offset, length);
      if (length == 0) return {offset, 0, true};
      const auto [free, stop] = owner_.stretch(offset, length);
      if (free) return {offset, stop, true};
      return owner_.whole_.disk().map(offset, stop);
    }
    void write(std::uint64_t, ConstByteSpan) override { ensure(false, "this disk is only read"); }
    void discard(std::uint64_t, std::uint64_t) override { ensure(false, "this disk is only read"); }
    void flush() override {}
    void resize(std::uint64_t) override { ensure(false, "this disk is only read"); }
    std::string name() const override { return owner_.whole_.disk().name(); }

   private:
    UsedOnly& owner_;
  };

  Container& whole_;
  const Unused& unused_;
  View disk_;
};

}  // namespace

CompactFigures plan_compact(Host& host, const Guest& guest, std::size_t index, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  const ContainerFacts facts = disk.container->facts();
  check_can(disk, facts);
  const Unused unused = find_unused(guest, index);
  const Drops drops = Search(*disk.container, unused, unit_of(facts)).run(progress);
  CompactFigures figures = figures_of(disk, unused, drops);
  if (facts.form == Form::raw) return figures;
  // The same steps on a view in memory, where content need not really move.
  HostNeighbours others(host);
  ListedNeighbours beside(&others);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<std::unique_ptr<ScratchStore>> scratch;
  for (const std::string& path : files_of(disk)) {
    files.push_back(host.open(path, Access::read_only));
    scratch.push_back(std::make_unique<ScratchStore>(*files.back()));
    beside.add(path, *scratch.back());
  }
  const auto trial = open_container(*scratch.front(), &beside);
  trial->move_tables_only();
  trial->make_ready();
  for (const DropRange& range : drops.ranges) trial->forget(range.start, range.end - range.start);
  figures.to_move = trial->tighten(UINT64_MAX);
  figures.length_after = trial->facts().file_length.value();
  return figures;
}

CompactFigures compact_in_place(Host& host, const Guest& guest, std::size_t index, bool zero_free,
                                Progress& progress) {
  const Disk& disk = guest.disks()[index];
  const ContainerFacts facts = disk.container->facts();
  check_can(disk, facts);
  const Unused unused = find_unused(guest, index);
  const Drops drops = Search(*disk.container, unused, unit_of(facts)).run(progress);
  CompactFigures figures = figures_of(disk, unused, drops);
  if (facts.form == Form::raw) {
    punch(host, disk, drops, progress);
  } else {
    if (!drops.ranges.empty()) {
      progress.begin("letting go what is not used", 0);
      sealed_step(host, disk, unused, progress, [&](Container& container) {
        for (const DropRange& range : drops.ranges)
          container.forget(range.start, range.end - range.start);
      });
    }
    // A step that moved clearly less than it might have was the last one.
    constexpr std::uint64_t nearly = bytes_per_step - bytes_per_step / 4;
    for (std::uint64_t moved = bytes_per_step; moved >= nearly;) {
      progress.begin("moving the end of the file to the front", 0);
      sealed_step(host, disk, unused, progress,
                  [&](Container& container) { moved = container.tighten(bytes_per_step); });
      figures.to_move += moved;
    }
    progress.end();
  }
  if (zero_free) write_zeros(host, disk, unused, progress);
  HostNeighbours others(host);
  const auto file = host.open(disk.path, Access::read_only);
  figures.length_after = open_container(*file, &others)->facts().file_length.value();
  return figures;
}

CompactFigures compact_into(Host& host, const Guest& guest, std::size_t index,
                            const std::string& out, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  const ContainerFacts facts = disk.container->facts();
  const Unused unused = find_unused(guest, index);
  UsedOnly used(*disk.container, unused);
  RecastRequest request;
  request.image = disk.path;
  request.out = out;
  request.form = facts.form;
  request.keeping = facts.keeping == Keeping::packed ? Keeping::packed : Keeping::sparse;
  request.in_pieces =
      facts.form == Form::vmdk && facts.keeping != Keeping::packed && !facts.variant.empty();
  const RecastPlan plan = plan_recast(host, used, request);
  carry_out_recast(host, used, plan, request, progress);
  CompactFigures figures;
  figures.length_before = facts.file_length.value();
  figures.files = {out};
  figures.files.insert(figures.files.end(), plan.parts.begin(), plan.parts.end());
  for (const std::string& path : figures.files)
    figures.length_after += host.open(path, Access::read_only)->size();
  figures.notes = unused.kept;
  for (const std::string& note : plan.notes) figures.notes.push_back(note);
  return figures;
}

}  // namespace jh
