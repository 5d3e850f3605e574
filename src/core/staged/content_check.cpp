#include "core/staged/content_check.h"

#include <algorithm>
#include <future>

#include "core/base/checksum.h"
#include "core/base/prefetcher.h"

namespace jh {
namespace {

// What is worth a second thread: below this it is read sooner than one begins.
constexpr std::uint64_t worth_two_readers = 1U << 18;
constexpr std::size_t pieces_ahead = 4;
// Compared while they are still in the processor's cache.
constexpr std::uint64_t compared_at_once = 1U << 18;

}  // namespace

ContentCheck::ContentCheck(FileSet& files, Effort effort) {
  for (Stage* stage : files.stages()) {
    stages_[stage->name()] = stage;
    any_shared_ |= effort == Effort::blocks && stage->shared() != 0;
  }
}

std::uint64_t ContentCheck::same_blocks(Store& before, std::uint64_t at, Store& after,
                                        std::uint64_t now_at, std::uint64_t length) {
  if (!any_shared_) return 0;
  const Location was = before.locate(at, length);
  if (was.store == nullptr) return 0;
  const Location now = after.locate(now_at, was.length);
  if (now.store == nullptr) return 0;
  const auto from = stages_.find(was.store->name());
  const auto to = stages_.find(now.store->name());
  if (from == stages_.end() || to == stages_.end()) return 0;
  const std::uint64_t same =
      to->second->blocks_of_before(now.at, *from->second, was.at, std::min(was.length, now.length));
  shared_ += same;
  return same;
}

void ContentCheck::read_old(Store& before, std::uint64_t at, std::uint64_t length, OldExtent& old) {
  old.length = length;
  old.zero = false;
  old.bytes.resize(length);
  before.read(at, old.bytes);
  old.locations.clear();
  for (std::uint64_t done = 0; done < length;) {
    const Location there = before.locate(at + done, length - done);
    const auto part = ConstByteSpan(old.bytes).subspan(done, there.length);
    old.locations.push_back({there, there.store == nullptr ? 0 : crc32c(part)});
    done += there.length;
  }
}

bool ContentCheck::same_piece(const OldExtent& old, Store& after, std::uint64_t now_at) {
  for (std::uint64_t done = 0; done < old.length; done += compared_at_once) {
    fresh_.resize(std::min(compared_at_once, old.length - done));
    after.read(now_at + done, fresh_);
    const bool same = old.zero ? all_zero(fresh_)
                               : std::memcmp(&old.bytes[done], fresh_.data(), fresh_.size()) == 0;
    if (!same) return false;
  }
  note(old, after, now_at);
  return true;
}

bool ContentCheck::same_piece(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at,
                              std::uint64_t length) {
  before.check_range(at, length);
  after.check_range(now_at, length);
  fresh_.resize(length);
  if (length >= worth_two_readers) {
    auto other = std::async(std::launch::async, [&] { after.read(now_at, fresh_); });
    read_old(before, at, length, old_);
    other.get();
  } else {
    read_old(before, at, length, old_);
    after.read(now_at, fresh_);
  }
  if (std::memcmp(old_.bytes.data(), fresh_.data(), length) != 0) return false;
  note(old_, after, now_at);
  return true;
}

std::uint64_t ContentCheck::same_until(Store& before, std::uint64_t at, Store& after,
                                       std::uint64_t now_at, std::uint64_t length,
                                       Progress& progress) {
  before.check_range(at, length);
  after.check_range(now_at, length);
  if (!any_shared_) return same_bytes_until(before, at, after, now_at, length, progress);
  for (std::uint64_t done = 0; done < length; progress.advance(0)) {
    std::uint64_t step = same_blocks(before, at + done, after, now_at + done, length - done);
    if (step == 0) {
      step = std::min(extent, length - done);
      if (!same_piece(before, at + done, after, now_at + done, step)) return done;
    }
    done += step;
  }
  return length;
}

std::uint64_t ContentCheck::same_bytes_until(Store& before, std::uint64_t at, Store& after,
                                             std::uint64_t now_at, std::uint64_t length,
                                             Progress& progress) {
  if (length <= worth_two_readers)
    return length == 0 || same_piece(before, at, after, now_at, length) ? length : 0;
  Prefetcher<OldExtent> old_pieces(pieces_ahead, [&](const auto& add) {
    std::uint64_t read = 0;
    while (read < length) {
      const std::uint64_t step = std::min(extent, length - read);
      // No more than a piece is asked for: a container looks for the end of it each time.
      const Range run = before.map(at + read, step);
      add([&](OldExtent& old) {
        if (run.zero) {
          old.length = run.length;
          old.zero = true;
          old.locations.clear();
          for (std::uint64_t at_zero = 0; at_zero < run.length;) {
            const Location there = before.locate(at + read + at_zero, run.length - at_zero);
            old.locations.push_back({there, 0});
            at_zero += there.length;
          }
        } else {
          read_old(before, at + read, step, old);
        }
        read += old.length;
      });
    }
  });
  std::uint64_t done = 0;
  while (const OldExtent* old = old_pieces.next()) {
    // What is a hole in both need not be read.
    const Range now = after.map(now_at + done, old->length);
    const bool holes = old->zero && now.zero && now.length == old->length;
    if (!holes && !same_piece(*old, after, now_at + done)) return done;
    done += old->length;
    progress.advance(0);
  }
  return length;
}

void ContentCheck::note(const OldExtent& old, Store& after, std::uint64_t now_at) {
  compared_ += old.length;
  std::uint64_t start = 0;  // of a location, in the piece
  for (const auto& [was, crc] : old.locations) {
    const auto from = was.store == nullptr ? stages_.end() : stages_.find(was.store->name());
    for (std::uint64_t done = 0; from != stages_.end() && done < was.length;) {
      const Location now = after.locate(now_at + start + done, was.length - done);
      const auto to = now.store == nullptr ? stages_.end() : stages_.find(now.store->name());
      const std::uint64_t at = was.at + done;
      if (to == from && now.at == at) {
        done += now.length;
        continue;
      }
      std::uint32_t sum = crc;
      if (!old.zero && now.length != was.length)
        sum = crc32c(ConstByteSpan(old.bytes).subspan(start + done, now.length));
      if (to != stages_.end() && !old.zero)
        from->second->note_moved(at, *to->second, now.at, now.length, sum);
      done += now.length;
    }
    start += was.length;
  }
}

}  // namespace jh
