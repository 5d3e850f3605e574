#include "core/change/content_check.h"

#include <future>

namespace jh {
namespace {

// What is worth a second thread: below this it is read sooner than one begins.
constexpr std::uint64_t worth_two_readers = 1U << 18;

}  // namespace

ContentCheck::ContentCheck(FileSet& files) {
  for (Stage* stage : files.stages()) stages_[stage->name()] = stage;
}

bool ContentCheck::same_piece(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at,
                              std::uint64_t length) {
  before.check_range(at, length);
  after.check_range(now_at, length);
  old_.resize(length);
  fresh_.resize(length);
  if (length >= worth_two_readers) {
    // The two states share files, but nothing that reading changes.
    auto other = std::async(std::launch::async, [&] { after.read(now_at, fresh_); });
    before.read(at, old_);
    other.get();
  } else {
    before.read(at, old_);
    after.read(now_at, fresh_);
  }
  if (std::memcmp(old_.data(), fresh_.data(), length) != 0) return false;
  note(before, at, after, now_at);
  return true;
}

std::uint64_t ContentCheck::same_until(Store& before, std::uint64_t at, Store& after,
                                       std::uint64_t now_at, std::uint64_t length,
                                       Progress& progress) {
  for (std::uint64_t done = 0; done < length;) {
    const std::uint64_t step = std::min(piece, length - done);
    // What is a hole in both need not be read. No more than a piece is asked for: a container looks
    // for the end of what it is asked for each time.
    const Run was = before.map(at + done, step);
    const Run now = after.map(now_at + done, was.length);
    if (was.zero && now.zero) {
      done += now.length;
      continue;
    }
    if (!same_piece(before, at + done, after, now_at + done, step)) return done;
    done += step;
    progress.advance(0);
  }
  return length;
}

void ContentCheck::note(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at) {
  for (std::uint64_t done = 0; done < old_.size();) {
    const Spot was = before.spot(at + done, old_.size() - done);
    const Spot now = after.spot(now_at + done, was.length);
    if (was.store != nullptr && now.store != nullptr) {
      const auto from = stages_.find(was.store->name());
      const auto to = stages_.find(now.store->name());
      if (from != stages_.end() && to != stages_.end())
        from->second->note_moved(was.at, *to->second, now.at,
                                 ConstByteSpan(old_).subspan(done, now.length));
    }
    done += now.length;
  }
}

}  // namespace jh
