#include "core/store/stage.h"

namespace jh {

Stage::Stage(Store& base, Ledger& ledger, std::uint32_t index)
    : base_(base),
      index_(index),
      direct_from_(round_up(base.size(), page_size)),
      size_(base.size()),
      direct_(base, ledger, index) {}

void Stage::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  const std::uint64_t end = offset + out.size();
  const auto first = pages_.find(offset / page_size);
  const bool in_one_page = !out.empty() && (end - 1) / page_size == offset / page_size;
  if (first == pages_.end() || !in_one_page) direct_.read(offset, out);
  for (auto page = pages_.lower_bound(offset / page_size);
       page != pages_.end() && page->first * page_size < end; ++page) {
    const std::uint64_t start = page->first * page_size;
    const std::uint64_t from = std::max(start, offset);
    const std::uint64_t to = std::min(start + page_size, end);
    std::memcpy(out.data() + (from - offset), page->second->data() + (from - start), to - from);
  }
}

Stage::Page& Stage::hold(std::uint64_t number, bool whole) {
  auto& slot = pages_[number];
  if (!slot) {
    slot = std::make_unique<Page>();
    if (!whole) direct_.read_base(number * page_size, *slot);
  }
  return *slot;
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
  const auto held = pages_.lower_bound(offset / page_size);
  if (held != pages_.end()) end = std::min(end, held->first * page_size);
  return end <= offset ? 0 : round_down(end - offset, page_size);
}

void Stage::put(std::uint64_t offset, ConstByteSpan data, bool unreferenced) {
  check_range(offset, data.size());
  while (!data.empty()) {
    if (offset >= direct_from_) {
      // The present state ends before: nothing of it is here, whatever the caller thinks.
      if (base_.size() < size_) base_.resize(size_);
      direct_.write_past_end(offset, data);
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
        direct_.write_again(offset, data.first(step));
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
  return direct_.map(offset, length);
}

void Stage::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const Buffer zeros(std::min<std::uint64_t>(length, page_size));
  while (length != 0) {
    const Run run = map(offset, length);
    const std::uint64_t step =
        run.zero ? run.length : std::min(run.length, page_size - offset % page_size);
    if (!run.zero) write(offset, ConstByteSpan(zeros).first(step));
    offset += step;
    length -= step;
  }
}

void Stage::begin_flush() { direct_.begin_flush(); }

void Stage::flush() { direct_.flush(); }

void Stage::resize(std::uint64_t new_size) { size_ = new_size; }

void Stage::note_moved(std::uint64_t from, const Stage& to, std::uint64_t at, std::uint64_t length,
                       std::uint32_t crc) {
  if (direct_.is_trusted() || from < size_ || from + length > direct_.old_size() ||
      at + length > to.size_ || length > ledger::max_payload ||
      meets(direct_.done(), from, from + length))
    return;
  const auto next = moved_.lower_bound(from);
  if (next != moved_.end() && next->first < from + length) return;
  if (next != moved_.begin() && std::prev(next)->first + std::prev(next)->second.length > from)
    return;
  moved_.emplace_hint(next, from, Moved{length, to.index_, at, crc});
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

void Stage::for_each_change(
    const std::function<void(std::uint64_t, ConstByteSpan, ConstByteSpan)>& visit) {
  // Only the bytes that differ are worth a record; gaps shorter than a record's header are bridged.
  constexpr std::size_t bridge = 64;
  Buffer old_run;
  Buffer new_run;
  std::uint64_t run_start = 0;
  const auto emit = [&] {
    if (!new_run.empty()) visit(run_start, old_run, new_run);
    old_run.clear();
    new_run.clear();
  };
  Buffer old(page_size);
  for (const auto& [number, page] : pages_) {
    const std::uint64_t at = number * page_size;
    const std::size_t length = std::min(page_size, size_ - std::min(size_, at));
    direct_.read_base(at, old);
    const Page& fresh = *page;
    for (std::size_t i = 0; i < length;) {
      constexpr std::size_t stride = 64;
      if (i + stride <= length && std::memcmp(&old[i], &fresh[i], stride) == 0) {
        i += stride;
        continue;
      }
      if (old[i] == fresh[i]) {
        ++i;
        continue;
      }
      std::size_t end = i + 1;  // one past the last differing byte of this run
      for (std::size_t j = end; j < length && j < end + bridge; ++j)
        if (old[j] != fresh[j]) end = j + 1;
      const std::uint64_t run_end = run_start + new_run.size();
      if (new_run.empty() || at + i > run_end + bridge ||
          new_run.size() >= ledger::max_payload / 2) {
        emit();
        run_start = at + i;
      } else if (at + i > run_end) {
        // The gap may reach back into the page before: what stands there is the same in both.
        Buffer gap(at + i - run_end);
        read(run_end, gap);
        old_run.insert(old_run.end(), gap.begin(), gap.end());
        new_run.insert(new_run.end(), gap.begin(), gap.end());
      }
      const auto from = static_cast<std::ptrdiff_t>(i);
      const auto to = static_cast<std::ptrdiff_t>(end);
      old_run.insert(old_run.end(), old.begin() + from, old.begin() + to);
      new_run.insert(new_run.end(), fresh.begin() + from, fresh.begin() + to);
      i = end;
    }
  }
  emit();
}

void Stage::for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  direct_.spill();
  for (const auto& [start, end] : direct_.done())
    if (start < size_) visit(start, std::min(end, size_) - start);
}

void Stage::for_each_sum(
    const std::function<void(std::uint64_t, std::uint64_t, std::uint32_t)>& visit) {
  direct_.spill();
  direct_.for_each_sum(size_, visit);
}

}  // namespace jh
