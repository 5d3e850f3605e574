#include "core/store/transaction.h"

#include <fmt/format.h>

#include <cstdio>

#include "core/base/checksum.h"
#include "core/base/shell_word.h"
#include "core/store/ledger_apply.h"
#include "core/store/memory_store.h"

namespace jh {

using ledger::RecordKind;

namespace {

Error unfinished(const std::string& state, const Error& error, const std::string& image) {
  return Error(Status::io, fmt::format("{}: {}", state, error.what()), error.where(),
               "see to the host's disk, then run: juneheath recover " + shell_word(image))
      .leaving(Left::unfinished);
}

// Files that the change made are not part of the old state.
void remove_created(Host& host, const Ledger& ledger) {
  for (const Ledger::Image& image : ledger.images())
    if (image.created) host.remove(image.path);
}

}  // namespace

Transaction::Transaction(Host& host, const std::vector<std::string>& paths,
                         const std::vector<Store*>& images, std::size_t created)
    : host_(host) {
  for (const std::string& path : paths) {
    const auto found = Ledger::open(host, path, /*tidy=*/true);
    if (found && found->state() != Ledger::State::done)
      refuse("an earlier change of this image was interrupted", found->path(),
             "run: juneheath recover " + shell_word(path));
  }
  ledger_ = Ledger::create(host, paths, images, created);
  for (std::size_t i = 0; i < images.size(); ++i)
    stages_.push_back(std::make_unique<Stage>(*images[i], *ledger_, static_cast<std::uint32_t>(i)));
}

Transaction::~Transaction() {
  if (over_) return;
  try {
    std::vector<Store*> images;
    for (const auto& stage : stages_) images.push_back(&stage->base());
    roll_back(*ledger_, images);
    remove_created(host_, *ledger_);
    ledger_->remove();
  } catch (const std::exception&) {
    // The ledger stays where it is: the next command finds it and asks for `recover`.
  }
}

// What the image loses at its end, so that it can be put back.
void Transaction::keep_cut(Stage& stage, Progress& progress) {
  stage.for_each_moved([&](std::uint64_t offset, const Stage::Moved& moved) {
    ledger::MovedTo place{};
    place.image = moved.image;
    place.crc = moved.crc;
    place.offset = moved.at;
    ledger_->append_moved(stage.index(), offset, moved.length, place);
  });
  stage.for_each_cut([&](std::uint64_t offset, std::uint64_t length) {
    while (length != 0) {
      const Run run = stage.base().map(offset, length);
      const std::uint64_t step = run.zero ? run.length : std::min(run.length, ledger::max_payload);
      if (!run.zero)
        ledger_->append(RecordKind::cut, stage.index(), offset,
                        read_buffer(stage.base(), offset, step));
      progress.advance(0);
      offset += step;
      length -= step;
    }
  });
}

void Transaction::seal(Progress& progress, bool keep_undo) {
  progress.begin("sealing", 0);
  for (const auto& stage : stages_) {
    const std::uint32_t image = stage->index();
    // Only an undo will ask whether somebody has written there since.
    if (keep_undo)
      stage->for_each_sum([&](std::uint64_t offset, std::uint64_t length, std::uint32_t crc) {
        ledger_->append_digest(image, offset, length, crc);
        progress.advance(0);
      });
    stage->for_each_change([&](std::uint64_t offset, ConstByteSpan old, ConstByteSpan fresh) {
      ledger_->append(RecordKind::before, image, offset, old);
      ledger_->append(RecordKind::after, image, offset, fresh);
      stage->base().reserve(offset, fresh.size());
      progress.advance(0);
    });
    if (keep_undo) keep_cut(*stage, progress);
    ledger_->append_new_size(image, stage->size());
  }
  ledger_bytes_ = ledger_->length();
  for (const auto& stage : stages_) stage->flush();
  ledger_->flush();
  try {
    ledger_->commit();
  } catch (const Error& error) {
    // Whether the mark reached the disk is not known: only recover may decide, from the disk.
    over_ = true;
    throw unfinished("whether the change is decided is not known", error,
                     ledger_->images().front().path);
  }
  over_ = true;
  try {
    std::vector<Store*> images;
    for (const auto& stage : stages_) images.push_back(&stage->base());
    apply_changes(*ledger_, images);
    ledger_->mark_done();
    if (!keep_undo) ledger_->remove();
  } catch (const Error& error) {
    throw unfinished("the change is decided but not wholly written", error,
                     ledger_->images().front().path);
  }
  progress.end();
}

bool has_unfinished_change(Host& host, const std::string& image_path) {
  try {
    const auto ledger = Ledger::open(host, image_path, /*tidy=*/false);
    return ledger && ledger->state() != Ledger::State::done;
  } catch (const Error&) {
    return true;  // what cannot be read cannot be said to be over
  }
}

std::optional<Error> outcome_told(Host& host, const std::string& image_path, const Error& error) {
  if (error.left() == Left::unfinished || error.left() == Left::sound) return std::nullopt;
  if (has_unfinished_change(host, image_path))
    return unfinished("the change is begun and could not be dropped", error, image_path);
  if (error.left() == Left::unchanged) return std::nullopt;
  return error.leaving(Left::unchanged);
}

namespace {

struct OpenImages {
  std::vector<std::unique_ptr<Store>> owned;
  std::vector<Store*> stores;
};

OpenImages open_images(Host& host, const Ledger& ledger, Access access) {
  OpenImages opened;
  for (const Ledger::Image& image : ledger.images()) {
    // A crash may have come between its removal and the ledger's.
    if (image.created && !host.exists(image.path))
      opened.owned.push_back(std::make_unique<MemoryStore>(0, image.path));
    else
      opened.owned.push_back(host.open(image.path, access));
    opened.stores.push_back(opened.owned.back().get());
  }
  return opened;
}

}  // namespace

RecoverResult recover(Host& host, const std::string& image_path) {
  const auto ledger = Ledger::open(host, image_path, /*tidy=*/true);
  if (!ledger || ledger->state() == Ledger::State::done) return RecoverResult::nothing_to_do;
  const OpenImages opened = open_images(host, *ledger, Access::read_write);
  switch (ledger->state()) {
    case Ledger::State::opened:
      check_is_unfinished(*ledger, host, opened.stores);
      roll_back(*ledger, opened.stores);
      remove_created(host, *ledger);
      ledger->remove();
      return RecoverResult::dropped;
    case Ledger::State::committed:
      check_old_or_new(*ledger, opened.stores);
      ledger->settle_names();
      apply_changes(*ledger, opened.stores);
      ledger->mark_done();
      return RecoverResult::finished;
    case Ledger::State::undoing:
      check_old_or_new(*ledger, opened.stores);
      put_back(*ledger, opened.stores);
      remove_created(host, *ledger);
      ledger->remove();
      return RecoverResult::undone;
    case Ledger::State::done:
      break;
  }
  return RecoverResult::nothing_to_do;
}

namespace {

UndoFacts facts_of(Ledger& ledger, const std::vector<Store*>& images) {
  check_untouched_since(ledger, images);
  UndoFacts facts;
  facts.changed_at = ledger.created();
  for (std::size_t i = 0; i < images.size(); ++i)
    facts.images.push_back({ledger.images()[i].path, images[i]->size(), ledger.images()[i].old_size,
                            ledger.images()[i].created});
  const auto wrote = written_directly(ledger);
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::before || entry.kind == RecordKind::cut ||
        entry.kind == RecordKind::moved)
      facts.bytes_put_back += entry.length;
    // Of a hole more may have been kept than was written.
    if (entry.kind == RecordKind::before_direct)
      for_each_inside(wrote[entry.image], entry.offset, entry.offset + entry.length,
                      [&](auto start, auto end) { facts.bytes_put_back += end - start; });
  });
  return facts;
}

std::unique_ptr<Ledger> open_finished(Host& host, const std::string& image_path) {
  auto ledger = Ledger::open(host, image_path, /*tidy=*/false);
  if (!ledger)
    refuse("there is no change to take back", image_path,
           "only the last change made with juneheath, and not with --no-undo, can be undone");
  if (ledger->state() != Ledger::State::done)
    refuse("the last change of this image was interrupted", ledger->path(),
           "run: juneheath recover " + shell_word(image_path));
  return ledger;
}

}  // namespace

UndoFacts check_undo(Host& host, const std::string& image_path) {
  return failing_leaves(Left::unchanged, [&] {
    const auto ledger = open_finished(host, image_path);
    return facts_of(*ledger, open_images(host, *ledger, Access::read_only).stores);
  });
}

UndoFacts undo(Host& host, const std::string& image_path) {
  std::unique_ptr<Ledger> ledger;
  OpenImages opened;
  UndoFacts facts = failing_leaves(Left::unchanged, [&] {
    open_finished(host, image_path);  // refuses before anything is tidied
    ledger = Ledger::open(host, image_path, /*tidy=*/true);
    opened = open_images(host, *ledger, Access::read_write);
    return facts_of(*ledger, opened.stores);
  });
  try {
    ledger->mark_undoing();
    put_back(*ledger, opened.stores);
    remove_created(host, *ledger);
    ledger->remove();
  } catch (const Error& error) {
    throw unfinished("the undo is begun but not finished", error, image_path);
  }
  return facts;
}

}  // namespace jh
