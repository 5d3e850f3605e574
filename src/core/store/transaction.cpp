#include "core/store/transaction.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/base/shell_word.h"
#include "core/base/sizes.h"
#include "core/store/first_page_guard.h"
#include "core/store/ledger_apply.h"

namespace jh {

using ledger::RecordKind;

Error unfinished(const std::string& state, const Error& error,
                 const std::vector<std::string>& images) {
  return Error(Status::io, fmt::format("{}: {}", state, error.what()), error.where(),
               "see to the host's disk, then run: " + suggest("recover", images))
      .with_outcome(Outcome::unfinished);
}

Transaction::Transaction(Host& host, const std::vector<std::string>& paths,
                         const std::vector<Store*>& images, std::size_t created)
    : host_(host) {
  for (const std::string& path : paths) {
    const auto found = Ledger::open(host, path, /*tidy=*/true);
    if (found && found->state() != Ledger::State::done)
      refuse("an earlier change of this image was interrupted", found->path(),
             "run: " + suggest("recover", {path}));
    if (const std::uint64_t names = host.link_count(path); names != 1)
      refuse(fmt::format("the image has {} names (hard links): a change under one of them would be "
                         "seen, and not be known of, under the others",
                         names),
             path,
             "give it a file of its own (cp it, then move the copy over this name), or make the "
             "result a new image with --into");
  }
  ledger_ = Ledger::create(host, paths, images, created);
  for (std::size_t i = 0; i < images.size(); ++i)
    stages_.push_back(std::make_unique<Stage>(*images[i], *ledger_, static_cast<std::uint32_t>(i)));
}

Transaction::~Transaction() {
  if (over_) return;
  try {
    // Nobody needs this: the old state does not refer to what was written. But then not even free
    // room is different, and the file has its old length.
    for (const auto& stage : stages_) stage->put_back();
    for (const Ledger::Image& image : ledger_->images())
      if (image.created) host_.remove(image.path);
    ledger_->remove();
  } catch (const std::exception&) {
    // The ledger stays where it is: the next command finds it and asks for `recover`.
  }
}

void Transaction::note_assigned(std::size_t index, std::uint64_t offset, std::uint64_t length,
                                bool zero, std::uint32_t crc) {
  ledger_->append_checksum(RecordKind::assigned, static_cast<std::uint32_t>(index), offset, length,
                           zero, crc);
}

// What only the old state refers to: so that it can be put back, or at least be recognized.
void Transaction::keep_let_go(Stage& stage, bool keep_undo, Progress& progress) {
  stage.for_each_moved([&](std::uint64_t offset, const Stage::Moved& moved) {
    ledger::MovedTo place{};
    place.image = moved.image;
    place.crc = moved.crc;
    place.offset = moved.at;
    ledger_->append_about(RecordKind::moved, stage.index(), offset, moved.length, bytes_of(place));
  });
  stage.for_each_cut([&](std::uint64_t offset, std::uint64_t length) {
    for (const std::uint64_t end = offset + length; offset < end; progress.advance(0))
      offset += keep_cut(stage, offset, end - offset, keep_undo);
  });
}

// The first run of it. Returns how long that is.
std::uint64_t Transaction::keep_cut(Stage& stage, std::uint64_t offset, std::uint64_t length,
                                    bool keep_undo) {
  const Range run = stage.base().map(offset, length);
  if (run.zero) return run.length;
  // Where only sums are needed, sharing still is cheaper than reading.
  const std::uint64_t in_front = round_up(offset, ledger::block_size) - offset;
  if (in_front == 0 && run.length >= ledger::worth_sharing) {
    const Ledger::Shared shared = ledger_->append_shared(RecordKind::cut, stage.index(), offset,
                                                         stage.base(), offset, run.length);
    if (shared.length != 0) return shared.length;
  }
  const std::uint64_t step = std::min(run.length, in_front == 0 ? ledger::max_payload : in_front);
  const Buffer bytes = read_buffer(stage.base(), offset, step);
  if (keep_undo)
    ledger_->append(RecordKind::cut, stage.index(), offset, bytes);
  else
    ledger_->append_checksum(RecordKind::cut_sum, stage.index(), offset, step, false,
                             crc32c(bytes));
  return step;
}

void Transaction::write_records(Progress& progress, bool keep_undo) {
  for (const auto& stage : stages_) {
    const std::uint32_t image = stage->index();
    std::uint64_t needed = 0;
    stage->finish_sums();
    stage->for_each_change([&](const Stage::Change& change) {
      if (change.old.empty())
        ledger_->append_zero(RecordKind::before, image, change.offset, change.length);
      else
        ledger_->append_compressed(RecordKind::before, image, change.offset, change.old);
      if (change.spilled == 0 && !change.repeated) {
        ledger_->append_compressed(RecordKind::after, image, change.offset, change.fresh);
      } else if (change.spilled == 0) {
        const std::uint64_t at =
            ledger_->append(RecordKind::after, image, change.offset, change.fresh);
        if (at != 0) stage->note_parked(change, at);
      } else {
        ledger::Spilled spilled{};
        spilled.at = change.spilled;
        spilled.crc = change.crc;
        ledger_->append_about(RecordKind::after, image, change.offset, change.length,
                              bytes_of(spilled), ledger::flag_spilled);
      }
      stage->base().reserve(change.offset, change.length);
      needed += change.length;
      progress.advance(0);
    });
    const std::string& path = ledger_->images()[image].path;
    // Nobody has what the change makes itself; all others are closed while it is written.
    const bool closes = (needed != 0 || stage->size() != stage->base().size()) &&
                        stage->closes_front() && !ledger_->images()[image].created;
    if (closes) {
      const std::uint64_t front = std::min(ledger::block_size, stage->base().size());
      stage->base().reserve(0, front);
      needed += front;
    }
    if (needed != 0 && host_.overwriting_needs_room(path) && host_.free_space(path) < needed)
      refuse(fmt::format("the host has only {} free, and {} must be written",
                         human(Bytes(host_.free_space(path))), human(Bytes(needed))),
             path, "make room on the host's filesystem, then run again");
    keep_let_go(*stage, keep_undo, progress);
    if (closes) {
      ledger_->append_about(RecordKind::front, image, 0, 0, {});
      FirstPageGuards::note(*ledger_, image, stage->base(), stage->size());
    }
    ledger_->append_about(RecordKind::new_size, image, stage->size(), stage->base().size(), {});
  }
}

void Transaction::seal(Progress& progress, bool keep_undo) {
  progress.begin("sealing", 0);
  write_records(progress, keep_undo);
  ledger_bytes_ = ledger_->length() - ledger_->shared_bytes();
  for (const auto& stage : stages_) stage->flush();
  ledger_->flush();
  try {
    ledger_->commit(keep_undo);
  } catch (const Error& error) {
    // Whether the mark reached the disk is not known: only recover may decide, from the disk.
    over_ = true;
    throw unfinished("whether the change is decided is not known", error, ledger_->paths());
  }
  over_ = true;
  try {
    std::vector<Store*> images;
    for (const auto& stage : stages_) images.push_back(&stage->base());
    FirstPageGuards fronts(*ledger_, images);
    fronts.close_all();
    apply_changes(*ledger_, fronts.stores());
    ledger_->mark_applied();
    fronts.open_all();
    ledger_->mark_done();
    if (!keep_undo) ledger_->remove();
  } catch (const Error& error) {
    throw unfinished("the change is decided but not wholly written", error, ledger_->paths());
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
  if (error.outcome() == Outcome::unfinished || error.outcome() == Outcome::sound)
    return std::nullopt;
  if (has_unfinished_change(host, image_path)) {
    std::vector<std::string> images{image_path};
    try {
      if (const auto ledger = Ledger::open(host, image_path, /*tidy=*/false))
        images = ledger->paths();
    } catch (const Error&) {
      // The one image is what is known.
    }
    return unfinished("the change is begun and could not be dropped", error, images);
  }
  if (error.outcome() == Outcome::unchanged) return std::nullopt;
  return error.with_outcome(Outcome::unchanged);
}

}  // namespace jh
