#include "core/store/stage.h"

#include "core/base/checksum.h"

namespace jh {

Stage::Stage(Store& base, Ledger& ledger, std::uint32_t index, Tail tail)
    : base_(base),
      ledger_(ledger),
      index_(index),
      tail_(tail),
      direct_from_(round_up(base.size(), page_size)),
      size_(base.size()),
      direct_(base, ledger, index) {}

void Stage::read_page(const Content& page, ByteSpan out, std::uint64_t from) {
  if (page.bytes)
    std::memcpy(out.data(), page.bytes->data() + from, out.size());
  else
    ledger_.read_back(page.spilled + from, out);
}

void Stage::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  const std::uint64_t end = offset + out.size();
  std::uint64_t at = offset;
  const auto read_below = [&](std::uint64_t stop) {
    if (at < stop) direct_.read(at, out.subspan(at - offset, stop - at));
  };
  for (auto page = pages_.lower_bound(offset / page_size);
       page != pages_.end() && page->first * page_size < end; ++page) {
    const std::uint64_t start = page->first * page_size;
    const std::uint64_t from = std::max(start, offset);
    const std::uint64_t to = std::min(start + page_size, end);
    read_below(from);
    read_page(*page->second, out.subspan(from - offset, to - from), from - start);
    at = to;
  }
  read_below(end);
  for_each_inside(zeroed_, offset, end, [&](std::uint64_t start, std::uint64_t stop) {
    std::memset(out.data() + (start - offset), 0, stop - start);
  });
}

// All contents that are in memory go to the ledger; runs of them side by side.
void Stage::park() {
  Buffer run;
  std::vector<Content*> members;
  std::uint64_t next = 0;
  const auto write_back = [&] {
    if (run.empty()) return;
    std::uint64_t at = ledger_.append_about(ledger::RecordKind::spilled, index_,
                                            next * page_size - run.size(), run.size(), run);
    for (Content* member : members) {
      member->spilled = at;
      member->bytes.reset();
      at += page_size;
    }
    run.clear();
    members.clear();
  };
  for (const auto& [number, page] : pages_) {
    const bool taken = std::find(members.begin(), members.end(), page.get()) != members.end();
    if (!page->bytes || taken) continue;
    if (number != next || run.size() >= ledger::max_payload / 2) write_back();
    run.insert(run.end(), page->bytes->begin(), page->bytes->end());
    members.push_back(page.get());
    next = number + 1;
  }
  write_back();
  in_memory_ = 0;
  known_.clear();
}

void Stage::make_room() {
  if ((in_memory_ + 1) * page_size > most_in_memory) park();
}

// Copies of a table that a filesystem keeps in many places cost memory, and room in the ledger,
// once.
Stage::Held Stage::content_of(ConstByteSpan page) {
  const std::uint32_t crc = crc32c(page);
  const auto [first, last] = known_.equal_range(crc);
  for (auto known = first; known != last; ++known)
    // What was changed since, or is spilled, is not what it was known as.
    if (const Held same = known->second.lock();
        same && same->bytes && std::equal(page.begin(), page.end(), same->bytes->begin()))
      return same;
  make_room();
  auto bytes = std::make_unique_for_overwrite<Page>();
  std::memcpy(bytes->data(), page.data(), page_size);
  auto fresh = std::make_shared<Content>(Content{std::move(bytes)});
  ++in_memory_;
  if (known_.size() >= 2 * most_in_memory / page_size) known_.clear();
  known_.emplace(crc, fresh);
  return fresh;
}

void Stage::hold_whole(std::uint64_t number, ConstByteSpan page) {
  const std::uint64_t start = number * page_size;
  const Held content = content_of(page);
  if (overlaps(zeroed_, start, start + page_size)) remove_range(zeroed_, start, start + page_size);
  Held& held = pages_[number];
  if (held && held != content && held.use_count() == 1 && held->bytes) --in_memory_;
  held = content;
}

// The page's content, in memory, to be changed: of this page alone.
Stage::Page& Stage::hold(std::uint64_t number) {
  const std::uint64_t start = number * page_size;
  auto found = pages_.find(number);
  if (found != pages_.end() && found->second->bytes && found->second.use_count() == 1) {
    found->second->spilled = 0;
    return *found->second->bytes;
  }
  make_room();
  auto bytes = std::make_unique_for_overwrite<Page>();
  if (found != pages_.end()) {
    read_page(*found->second, *bytes, 0);
  } else if (overlaps(zeroed_, start, start + page_size)) {
    remove_range(zeroed_, start, start + page_size);
    bytes->fill(0);
  } else {
    direct_.read(start, *bytes);
  }
  ++in_memory_;
  return *(pages_[number] = std::make_shared<Content>(Content{std::move(bytes)}))->bytes;
}

void Stage::write(std::uint64_t offset, ConstByteSpan data) { put(offset, data, false); }

void Stage::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  put(offset, data, true);
}

// How much from `offset` on are whole pages of the old image that are not held: only a page that is
// unreferenced as a whole may be torn by a crash without harm.
std::uint64_t Stage::direct_part(std::uint64_t offset, std::uint64_t length) const {
  if (offset % page_size != 0) return 0;
  std::uint64_t end = std::min(offset + length, direct_.old_size());
  end = round_down(end, page_size);
  const auto held = pages_.lower_bound(offset / page_size);
  if (held != pages_.end()) end = std::min(end, held->first * page_size);
  if (allowed_) {
    const auto range = allowed_->upper_bound(offset);
    const bool inside = range != allowed_->begin() && std::prev(range)->second > offset;
    end = inside ? std::min(end, round_down(std::prev(range)->second, page_size)) : offset;
  }
  // What was let go is what the old state refers to.
  for_each_inside(zeroed_, offset, end,
                  [&](std::uint64_t start, std::uint64_t) { end = std::min(end, start); });
  return end > offset ? end - offset : 0;
}

std::uint64_t Stage::unstaged(std::uint64_t offset, std::uint64_t length) const {
  std::uint64_t end = std::min(offset + length, std::max(offset, base_.size()));
  const auto held = pages_.lower_bound(offset / page_size);
  if (held != pages_.end()) end = std::min(end, std::max(offset, held->first * page_size));
  for_each_inside(zeroed_, offset, end,
                  [&](std::uint64_t start, std::uint64_t) { end = std::min(end, start); });
  return end - offset;
}

std::uint64_t Stage::untouched(std::uint64_t offset, std::uint64_t length) const {
  std::uint64_t end = std::min(offset + length, std::max(offset, direct_.old_size()));
  for_each_inside(direct_.done(), offset, end,
                  [&](std::uint64_t start, std::uint64_t) { end = std::min(end, start); });
  return end - offset;
}

std::uint64_t Stage::share_unreferenced(std::uint64_t offset, const Location& source) {
  const auto* from = dynamic_cast<Stage*>(source.store);
  if (from == nullptr) return 0;
  std::uint64_t length = from->unstaged(source.at, source.length);
  // A range is not shared with itself.
  if (from == this)
    length = std::min(length, offset < source.at ? source.at - offset : offset - source.at);
  check_range(offset, length);
  if (offset < direct_from_ || tail_ == Tail::held)
    length = direct_part(offset, length);
  else if (length >= ledger::worth_sharing && base_.size() < size_)
    base_.resize(size_);
  if (length < ledger::worth_sharing) return 0;
  return direct_.share(offset, from->base_, source.at, length);
}

std::uint64_t Stage::blocks_of_before(std::uint64_t offset, Stage& from, std::uint64_t there,
                                      std::uint64_t length) {
  if (direct_.shared() == 0) return 0;
  length = from.untouched(there, unstaged(offset, length));
  return length == 0 ? 0 : base_.same_blocks(offset, from.base_, there, length);
}

void Stage::put(std::uint64_t offset, ConstByteSpan data, bool unreferenced) {
  check_range(offset, data.size());
  while (!data.empty()) {
    if (offset >= direct_from_ && tail_ == Tail::direct) {
      // The present state ends before: nothing of it is here, whatever the caller thinks.
      if (base_.size() < size_) base_.resize(size_);
      direct_.write(offset, data);
      return;
    }
    std::uint64_t step = unreferenced ? direct_part(offset, data.size()) : 0;
    if (step != 0) {
      direct_.write(offset, data.first(step));
    } else {
      const std::uint64_t in_page = offset % page_size;
      step = std::min<std::uint64_t>(data.size(), page_size - in_page);
      // What was unreferenced as a whole still is: held pages and direct ones are never the same.
      if (direct_.has_page(offset - in_page))
        direct_.write(offset, data.first(step));
      else if (step == page_size)
        hold_whole(offset / page_size, data.first(step));
      else
        std::memcpy(hold(offset / page_size).data() + in_page, data.data(), step);
    }
    offset += step;
    data = data.subspan(step);
  }
}

Range Stage::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const auto held = pages_.lower_bound(offset / page_size);
  if (held != pages_.end() && held->first == offset / page_size)
    return {offset, std::min(length, (held->first + 1) * page_size - offset), false};
  if (held != pages_.end()) length = std::min(length, held->first * page_size - offset);
  const auto next = zeroed_.upper_bound(offset);
  if (next != zeroed_.end()) length = std::min(length, next->first - offset);
  if (next != zeroed_.begin() && std::prev(next)->second > offset)
    return {offset, std::min(length, std::prev(next)->second - offset), true};
  return direct_.map(offset, length);
}

void Stage::zero_bytes(std::uint64_t offset, std::uint64_t length) {
  const Buffer zeros(std::min<std::uint64_t>(length, page_size));
  while (length != 0) {
    const Range run = map(offset, length);
    const std::uint64_t step =
        std::min<std::uint64_t>(run.length, run.zero ? length : zeros.size());
    if (!run.zero) write(offset, ConstByteSpan(zeros).first(step));
    offset += step;
    length -= step;
  }
}

void Stage::zero_pages(std::uint64_t first, std::uint64_t last) {
  const auto from = pages_.lower_bound(first / page_size);
  const auto to = pages_.lower_bound(last / page_size);
  for (auto page = from; page != to; page = pages_.erase(page))
    if (page->second.use_count() == 1 && page->second->bytes) --in_memory_;
  // What the change itself wrote is written again; of the rest only what is there can be let go.
  std::uint64_t at = first;
  const auto let_go = [&](std::uint64_t end) {
    // Behind the old end nothing is there but what was written directly.
    end = std::min(end, direct_from_);
    if (at < end) add_range(zeroed_, at, end);
  };
  Ranges direct;
  for_each_inside(direct_.done(), first, last, [&](std::uint64_t start, std::uint64_t end) {
    add_range(direct, round_down(start, page_size), round_up(end, page_size));
  });
  for (const auto& [start, end] : direct) {
    let_go(start);
    zero_bytes(start, std::min(end, size_) - start);
    at = end;
  }
  let_go(last);
}

void Stage::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const std::uint64_t end = offset + length;
  const std::uint64_t first = round_up(offset, page_size);
  const std::uint64_t last = end == size_ ? round_up(end, page_size) : round_down(end, page_size);
  if (first >= last) {
    zero_bytes(offset, length);
    return;
  }
  zero_bytes(offset, first - offset);
  zero_pages(first, last);
  if (last < end) zero_bytes(last, end - last);
}

void Stage::begin_flush() { direct_.begin_flush(); }

void Stage::flush() { direct_.flush(); }

void Stage::resize(std::uint64_t new_size) {
  // What the seal could not do is refused now.
  if (base_.has_fixed_size()) base_.resize(new_size);
  const std::uint64_t before = size_;
  size_ = new_size;
  if (new_size > before) discard(before, new_size - before);
}

void Stage::note_moved(std::uint64_t from, const Stage& to, std::uint64_t at, std::uint64_t length,
                       std::uint32_t crc) {
  if (from < size_ || from + length > direct_.old_size() || at + length > to.size_ ||
      length > ledger::max_payload || overlaps(direct_.done(), from, from + length))
    return;
  const auto next = moved_.lower_bound(from);
  const bool known =
      (next != moved_.end() && next->first < from + length) ||
      (next != moved_.begin() && std::prev(next)->first + std::prev(next)->second.length > from);
  if (!known) moved_.emplace_hint(next, from, Moved{length, to.index_, at, crc});
}

void Stage::for_each_moved(const std::function<void(std::uint64_t, const Moved&)>& visit) const {
  for (const auto& [from, moved] : moved_) visit(from, moved);
}

void Stage::for_each_cut(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  // What was written directly there has its old bytes in the ledger already.
  Ranges known = direct_.done();
  for (const auto& [from, moved] : moved_) add_range(known, from, from + moved.length);
  std::uint64_t at = size_;
  const std::uint64_t old_size = direct_.old_size();
  for_each_inside(known, at, std::max(at, old_size), [&](std::uint64_t start, std::uint64_t end) {
    if (start > at) visit(at, start - at);
    at = end;
  });
  if (at < old_size) visit(at, old_size - at);
}

void Stage::for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  for (const auto& [start, end] : direct_.done())
    if (start < size_) visit(start, std::min(end, size_) - start);
}

}  // namespace jh
