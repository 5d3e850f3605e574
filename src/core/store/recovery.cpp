#include "core/store/recovery.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"
#include "core/store/first_page_guard.h"
#include "core/store/ledger_apply.h"
#include "core/store/ledger_check.h"
#include "core/store/memory_store.h"
#include "core/store/transaction.h"

namespace jh {

using ledger::RecordKind;

namespace {

bool is_named(Host& host, const Named& named, const std::string& path) {
  return std::any_of(named.images.begin(), named.images.end(), [&](const std::string& image) {
    return host.ledger_path(image) == host.ledger_path(path) ||
           (named.is_part && named.is_part(image, path));
  });
}

// Whether every file that the ledger would reach was named. Dropping a change reaches none that it
// made, but may be done only when nobody is at work on the others.
void check_named(Host& host, const Ledger& ledger, const Named& named, Suggestion command) {
  std::vector<std::string> unnamed;
  for (const Ledger::Image& image : ledger.images())
    if (host.exists(image.path) && !is_named(host, named, image.path) &&
        !(image.created && ledger.state() == Ledger::State::opened))
      unnamed.push_back(image.path);
  if (!unnamed.empty()) {
    command.images = named.images;
    command.images.insert(command.images.end(), unnamed.begin(), unnamed.end());
    refuse("the change was made on a further image too, which is not named: " + unnamed.front(),
           ledger.path(), "if it belongs to the same guest, name all of them:\n  " + command);
  }
  if (host.ledger_path(ledger.images().front().path) != ledger.path())
    refuse("the ledger does not lie beside the first of its images", ledger.path(),
           "see who put it there; nothing was done with it");
}

struct OpenImages {
  std::vector<std::unique_ptr<Store>> owned;
  std::vector<Store*> stores;
};

OpenImages open_images(Host& host, const Ledger& ledger, Access access) {
  OpenImages opened;
  for (const Ledger::Image& image : ledger.images()) {
    if (!host.exists(image.path)) {
      // An undo removes what the change made; a crash may have come right behind that.
      const bool being_undone =
          ledger.state() == Ledger::State::undoing || ledger.state() == Ledger::State::restored;
      if (!image.created || !being_undone || !host.has_folder(image.path))
        refuse("an image of the change is not there", image.path,
               "nothing was written; put it back where it was, then run again");
      opened.owned.push_back(std::make_unique<MemoryStore>(0, image.path));
    } else {
      opened.owned.push_back(host.open(image.path, access));
    }
    if (!image.device_name.empty() && host.device_name(image.path) != image.device_name)
      refuse(
          "this is another device than the one the change was made on (" + image.device_name + ")",
          image.path, "nothing was written; name that device");
    opened.stores.push_back(opened.owned.back().get());
  }
  return opened;
}

// Whether a file that the change made holds nothing but what the change wrote.
bool holds_only_ours(Ledger& ledger, const LedgerIndex::Image& known, Store& file) {
  std::uint64_t at = 0;
  for (const auto& [start, stretch] : known.wrote) {
    if (start >= file.size()) break;
    const std::uint64_t length = std::min(stretch.length, file.size() - start);
    if (!range_is_zero(file, at, start - at)) return false;
    at = start + length;
    if (has_sums(ledger, file, start, stretch, start, length)) continue;
    // A crash may have kept a part of it from the disk.
    if (!range_is_zero(file, start, length)) return false;
  }
  return range_is_zero(file, at, file.size() - at);
}

// Files that the dropped change made are not part of the old state; but only what was named, and
// holds nothing of anybody else's, is removed. Returns the paths of the others.
std::vector<std::string> remove_made(Host& host, Ledger& ledger, const Named& named) {
  std::vector<std::string> left;
  const bool any = std::any_of(ledger.images().begin(), ledger.images().end(),
                               [](const Ledger::Image& image) { return image.created; });
  if (!any) return left;
  const LedgerIndex index = index_of(ledger);
  for (std::size_t i = 0; i < index.images.size(); ++i) {
    const Ledger::Image& image = ledger.images()[i];
    if (!image.created || !host.exists(image.path)) continue;
    if (is_named(host, named, image.path) &&
        holds_only_ours(ledger, index.images[i], *host.open_plain(image.path, Access::read_only)))
      host.remove(image.path);
    else
      left.push_back(image.path);
  }
  return left;
}

void remove_created(Host& host, const Ledger& ledger) {
  for (const Ledger::Image& image : ledger.images())
    if (image.created) host.remove(image.path);
}

bool is_over(const Ledger& ledger) {
  return ledger.state() == Ledger::State::done && ledger.has_undo();
}

}  // namespace

std::vector<Waiting> waiting_changes(Host& host, const Named& named) {
  std::vector<Waiting> found;
  std::vector<Uuid> seen;
  for (const std::string& image : named.images) {
    const auto ledger = Ledger::open(host, image, /*tidy=*/false);
    if (!ledger || std::find(seen.begin(), seen.end(), ledger->id()) != seen.end()) continue;
    seen.push_back(ledger->id());
    if (!is_over(*ledger)) check_named(host, *ledger, named, suggest("recover"));
    Waiting waiting{ledger->state(), ledger->has_undo(), ledger->created(), {}};
    for (const Ledger::Image& each : ledger->images())
      if (host.exists(each.path) && is_named(host, named, each.path))
        waiting.images.push_back(each.path);
    found.push_back(std::move(waiting));
  }
  return found;
}

namespace {

// The old state is whole: nothing of it was overwritten.
void drop(Host& host, Ledger& ledger, const Named& named, Recovered& done) {
  done.left = remove_made(host, ledger, named);
  ledger.remove();
  done.result = RecoverResult::dropped;
  // What the dropped change wrote to free room may be what the change before it had freed.
  for (const Ledger::Image& each : ledger.images())
    if (!each.created && host.exists(each.path)) done.ended_undo |= end_undo(host, each.path);
}

void finish(Ledger& ledger, FirstPageGuards& fronts, Recovered& done) {
  fronts.open_all();
  if (ledger.state() == Ledger::State::applied) ledger.mark_done();
  if (!ledger.has_undo()) ledger.remove();
  done.result = RecoverResult::finished;
}

// Decided, and perhaps carried out in part; but if a first page is open, not even begun.
void recover_committed(Host& host, Ledger& ledger, const Named& named,
                       const std::vector<Store*>& images, Recovered& done) {
  const LedgerIndex index = index_of(ledger);
  FirstPageGuards fronts(ledger, images);
  fronts.check_texts();
  if (!fronts.all_closed()) {
    fronts.check_untouched();
    check_not_begun(ledger, index, images);
    fronts.open_all();
    drop(host, ledger, named, done);
    return;
  }
  check_can_finish(ledger, index, fronts.stores());
  ledger.take_final_names();
  apply_changes(ledger, fronts.stores());
  ledger.mark_applied();
  finish(ledger, fronts, done);
}

// The same of an undo.
void recover_undoing(Host& host, Ledger& ledger, const std::vector<Store*>& images,
                     Recovered& done) {
  const LedgerIndex index = index_of(ledger);
  FirstPageGuards fronts(ledger, images);
  fronts.check_texts();
  if (ledger.state() == Ledger::State::undoing) {
    if (!fronts.all_closed()) {
      fronts.check_untouched();
      check_not_begun(ledger, index, images);
      fronts.open_all();
      ledger.clear_undoing();
      done.result = RecoverResult::undo_dropped;
      return;
    }
    check_can_finish_undo(ledger, index, fronts.stores());
  } else {
    fronts.remember_only();
  }
  put_back(ledger, index, fronts.stores());
  if (ledger.state() == Ledger::State::undoing) ledger.mark_restored();
  fronts.open_all();
  remove_created(host, ledger);
  ledger.remove();
  done.result = RecoverResult::undone;
}

}  // namespace

Recovered recover(Host& host, const std::string& image, const Named& named) {
  const auto ledger = Ledger::open(host, image, /*tidy=*/true);
  if (!ledger || is_over(*ledger)) return {};
  check_named(host, *ledger, named, suggest("recover"));
  Recovered done{RecoverResult::nothing_to_do, ledger->paths(), {}, false};
  if (ledger->state() == Ledger::State::opened) {
    drop(host, *ledger, named, done);
    return done;
  }
  if (ledger->state() == Ledger::State::done) {
    // Everything is written; only a ledger that nobody can use is left.
    ledger->remove();
    done.result = RecoverResult::finished;
    return done;
  }
  const OpenImages opened = open_images(host, *ledger, Access::read_write);
  if (ledger->state() == Ledger::State::committed) {
    recover_committed(host, *ledger, named, opened.stores, done);
  } else if (ledger->state() == Ledger::State::applied) {
    // What the first pages hold now is found by doing the rest of the work once more, without doing
    // it.
    FirstPageGuards fronts(*ledger, opened.stores);
    fronts.check_texts();
    fronts.remember_only();
    apply_changes(*ledger, fronts.stores());
    finish(*ledger, fronts, done);
  } else {
    recover_undoing(host, *ledger, opened.stores, done);
  }
  return done;
}

Recovered forget_change(Host& host, const std::string& image, const Named& named) {
  const auto ledger = Ledger::open(host, image, /*tidy=*/true);
  if (!ledger || is_over(*ledger)) return {};
  check_named(host, *ledger, named, suggest("recover").with("keep-as-is"));
  ledger->remove();
  return {RecoverResult::forgotten, ledger->paths(), {}, false};
}

bool end_undo(Host& host, const std::string& image) {
  const auto ledger = Ledger::open(host, image, /*tidy=*/true);
  if (!ledger) return false;
  if (ledger->state() != Ledger::State::done)
    refuse("an earlier change of this image was interrupted", ledger->path(),
           "run: " + suggest("recover", {image}));
  if (host.ledger_path(image) == ledger->path()) {
    ledger->remove();
  } else {
    // Of a change over several images only this one's way to it goes; the undo will be refused.
    host.remove(host.ledger_path(image));
  }
  return true;
}

namespace {

UndoFacts facts_of(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  UndoFacts facts;
  facts.changed_at = ledger.created();
  for (std::size_t i = 0; i < images.size(); ++i)
    facts.images.push_back({ledger.images()[i].path, images[i]->size(), ledger.images()[i].old_size,
                            ledger.images()[i].created});
  for (const LedgerIndex::Image& image : index.images) {
    Ranges touched = image.after;
    for (const LedgerRanges* stretches : {&image.wrote, &image.kept, &image.cut})
      for (const auto& [start, stretch] : *stretches)
        add_range(touched, start, start + stretch.length);
    for (const auto& [start, checksum] : image.checksums)
      add_range(touched, start, start + checksum.length);
    for (const auto& [start, moved] : image.moved) add_range(touched, start, start + moved.length);
    facts.touched.push_back(std::move(touched));
  }
  for (const LedgerIndex::AssignedRange& assigned_ranges : index.assigned_ranges)
    facts.assigned_ranges.push_back({ledger.images()[assigned_ranges.image].path,
                                     assigned_ranges.offset, assigned_ranges.length,
                                     assigned_ranges.zero, assigned_ranges.crc});
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::before || entry.kind == RecordKind::cut ||
        entry.kind == RecordKind::moved || entry.kind == RecordKind::before_direct)
      facts.bytes_put_back += entry.length;
  });
  return facts;
}

std::unique_ptr<Ledger> open_finished(Host& host, const std::string& image, const Named& named,
                                      bool tidy) {
  auto ledger = Ledger::open(host, image, tidy);
  if (!ledger)
    refuse("there is no change to take back", image,
           "only the last change, and one made without --no-undo, can be undone");
  if (ledger->state() != Ledger::State::done)
    refuse("the last change of this image was interrupted", ledger->path(),
           "run: " + suggest("recover", {image}));
  if (!ledger->has_undo())
    refuse("the last change of this image kept nothing to take it back with", ledger->path(),
           "to tidy its ledger away: " + suggest("recover", {image}));
  check_named(host, *ledger, named, suggest("undo"));
  return ledger;
}

// What they hold now: somebody may have written there what is none of the change's business.
void note_fronts(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  std::vector<std::uint32_t> closed;
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::front) closed.push_back(entry.image);
  });
  for (const std::uint32_t image : closed)
    FirstPageGuards::note(ledger, image, *images[image], index.images[image].old_size);
}

}  // namespace

UndoFacts check_undo(Host& host, const std::string& image, const Named& named) {
  return failing_with(Outcome::unchanged, [&] {
    const auto ledger = open_finished(host, image, named, /*tidy=*/false);
    const OpenImages opened = open_images(host, *ledger, Access::read_only);
    const LedgerIndex index = index_of(*ledger);
    check_can_undo(*ledger, index, opened.stores);
    return facts_of(*ledger, index, opened.stores);
  });
}

UndoFacts undo(Host& host, const std::string& image, const Named& named,
               const std::function<void(const UndoFacts&)>& also_check) {
  std::unique_ptr<Ledger> ledger;
  OpenImages opened;
  LedgerIndex index;
  UndoFacts facts = failing_with(Outcome::unchanged, [&] {
    open_finished(host, image, named, /*tidy=*/false);  // refuses before anything is tidied
    ledger = open_finished(host, image, named, /*tidy=*/true);
    opened = open_images(host, *ledger, Access::read_write);
    index = index_of(*ledger);
    check_can_undo(*ledger, index, opened.stores);
    UndoFacts found = facts_of(*ledger, index, opened.stores);
    if (also_check) also_check(found);
    note_fronts(*ledger, index, opened.stores);
    return found;
  });
  try {
    ledger->mark_undoing();
    FirstPageGuards fronts(*ledger, opened.stores);
    fronts.close_all();
    put_back(*ledger, index, fronts.stores());
    ledger->mark_restored();
    fronts.open_all();
    remove_created(host, *ledger);
    ledger->remove();
  } catch (const Error& error) {
    throw unfinished("the undo is begun but not finished", error, ledger->paths());
  }
  return facts;
}

}  // namespace jh
