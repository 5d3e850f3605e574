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

void Stage::read_page(const Held& page, ByteSpan out, std::uint64_t from) {
  if (page.bytes)
    std::memcpy(out.data(), page.bytes->data() + from, out.size());
  else
    ledger_.read_back(page.parked + from, out);
}

void Stage::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  const std::uint64_t end = offset + out.size();
  const auto first = pages_.find(offset / page_size);
  const bool in_one_page = !out.empty() && (end - 1) / page_size == offset / page_size;
  if (first == pages_.end() || !in_one_page) {
    direct_.read(offset, out);
    for_each_inside(zeroed_, offset, end, [&](std::uint64_t start, std::uint64_t stop) {
      std::memset(out.data() + (start - offset), 0, stop - start);
    });
  }
  for (auto page = pages_.lower_bound(offset / page_size);
       page != pages_.end() && page->first * page_size < end; ++page) {
    const std::uint64_t start = page->first * page_size;
    const std::uint64_t from = std::max(start, offset);
    const std::uint64_t to = std::min(start + page_size, end);
    read_page(page->second, out.subspan(from - offset, to - from), from - start);
  }
}

// All pages that are in memory go to the ledger; runs of them side by side.
void Stage::park() {
  Buffer run;
  std::vector<Held*> members;
  std::uint64_t next = 0;
  const auto bring_out = [&] {
    if (run.empty()) return;
    std::uint64_t at = ledger_.append_about(ledger::RecordKind::parked, index_,
                                            next * page_size - run.size(), run.size(), run);
    for (Held* member : members) {
      member->parked = at;
      member->bytes.reset();
      at += page_size;
    }
    run.clear();
    members.clear();
  };
  for (auto& [number, page] : pages_) {
    if (!page.bytes) continue;
    if (number != next || run.size() >= ledger::max_payload / 2) bring_out();
    run.insert(run.end(), page.bytes->begin(), page.bytes->end());
    members.push_back(&page);
    next = number + 1;
  }
  bring_out();
  in_memory_ = 0;
}

Stage::Page& Stage::hold(std::uint64_t number, bool whole) {
  auto found = pages_.find(number);
  if (found != pages_.end() && found->second.bytes) return *found->second.bytes;
  if ((in_memory_ + 1) * page_size > most_in_memory) park();
  auto page = std::make_unique<Page>();
  const std::uint64_t start = number * page_size;
  if (found != pages_.end()) {
    if (!whole) ledger_.read_back(found->second.parked, *page);
  } else if (overlaps(zeroed_, start, start + page_size)) {
    remove_range(zeroed_, start, start + page_size);
  } else if (!whole) {
    direct_.read(start, *page);
  }
  Held& held = pages_[number];
  held = {std::move(page), 0};
  ++in_memory_;
  return *held.bytes;
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
      else
        std::memcpy(hold(offset / page_size, step == page_size).data() + in_page, data.data(),
                    step);
    }
    offset += step;
    data = data.subspan(step);
  }
}

Run Stage::map(std::uint64_t offset, std::uint64_t length) {
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
    const Run run = map(offset, length);
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
  for (auto page = from; page != to; ++page) in_memory_ -= page->second.bytes ? 1 : 0;
  pages_.erase(from, to);
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

void Stage::changed_pages(const std::function<void(const Change&)>& visit) {
  constexpr std::size_t most = ledger::max_payload / 2;
  Buffer old_run;
  Buffer new_run;
  std::uint64_t start = 0;
  std::uint64_t parked = 0;
  const auto emit = [&] {
    if (!new_run.empty()) visit({start, old_run, new_run, parked});
    old_run.clear();
    new_run.clear();
  };
  Buffer old(page_size);
  Buffer fresh(page_size);
  for (const auto& [number, page] : pages_) {
    const std::uint64_t at = number * page_size;
    if (at >= size_) break;
    const std::size_t length = std::min(page_size, size_ - at);
    direct_.read(at, old);
    read_page(page, fresh, 0);
    if (std::equal(old.begin(), old.begin() + static_cast<std::ptrdiff_t>(length), fresh.begin()))
      continue;
    const bool joins =
        !new_run.empty() && start + new_run.size() == at && new_run.size() < most &&
        (page.bytes ? parked == 0 : parked != 0 && parked + new_run.size() == page.parked);
    if (!joins) {
      emit();
      start = at;
      parked = page.bytes ? 0 : page.parked;
    }
    const auto end = static_cast<std::ptrdiff_t>(length);
    old_run.insert(old_run.end(), old.begin(), old.begin() + end);
    new_run.insert(new_run.end(), fresh.begin(), fresh.begin() + end);
  }
  emit();
}

void Stage::for_each_change(const std::function<void(const Change&)>& visit) {
  changed_pages(visit);
  constexpr std::uint64_t most = ledger::max_payload / 2;
  const Buffer zeros(most);
  for (const auto& [from, to] : zeroed_) {
    const std::uint64_t end = std::min({to, size_, base_.size()});
    for (std::uint64_t at = from; at < end;) {
      const Run run = base_.map(at, end - at);
      const std::uint64_t step = run.zero ? run.length : std::min(run.length, most);
      if (!run.zero) {
        const Buffer old = read_buffer(base_, at, step);
        visit({at, old, ConstByteSpan(zeros).first(step), 0});
      }
      at += step;
    }
  }
}

void Stage::for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  for (const auto& [start, end] : direct_.done())
    if (start < size_) visit(start, std::min(end, size_) - start);
}

}  // namespace jh
