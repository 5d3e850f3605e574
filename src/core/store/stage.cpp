#include "core/store/stage.h"

namespace jh {
namespace {

// Pages that wait to be written directly: enough to make one flush of the ledger serve many.
constexpr std::uint64_t max_waiting = 4096;
// Bytes written directly after which the host may begin to bring them out.
constexpr std::uint64_t worth_bringing_out = 64U << 20;

}  // namespace

Stage::Stage(Store& base, Ledger& ledger, std::uint32_t index)
    : base_(base),
      ledger_(ledger),
      index_(index),
      old_size_(base.size()),
      direct_from_(round_up(base.size(), page_size)),
      size_(base.size()) {}

// The image's own bytes; past its end (it may grow only later) there are zeros.
void Stage::base_read(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t end = base_.size();
  const std::uint64_t there = offset >= end ? 0 : std::min<std::uint64_t>(out.size(), end - offset);
  base_.read(offset < end ? offset : end, out.first(there));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::uint8_t{0});
}

void Stage::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  const std::uint64_t end = offset + out.size();
  const auto first = pages_.find(offset / page_size);
  const bool in_one_page = !out.empty() && (end - 1) / page_size == offset / page_size;
  if (first == pages_.end() || !in_one_page) base_read(offset, out);
  for (auto page = pages_.lower_bound(offset / page_size);
       page != pages_.end() && page->first * page_size < end; ++page) {
    const std::uint64_t start = page->first * page_size;
    const std::uint64_t from = std::max(start, offset);
    const std::uint64_t to = std::min(start + page_size, end);
    std::memcpy(out.data() + (from - offset), page->second->data.data() + (from - start),
                to - from);
  }
}

Stage::Page& Stage::hold(std::uint64_t number, bool whole) {
  auto& slot = pages_[number];
  if (!slot) {
    slot = std::make_unique<Page>();
    if (!whole) base_read(number * page_size, slot->data);
  }
  return *slot;
}

void Stage::write(std::uint64_t offset, ConstByteSpan data) { put(offset, data, false); }

void Stage::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  put(offset, data, true);
}

void Stage::put(std::uint64_t offset, ConstByteSpan data, bool unreferenced) {
  check_range(offset, data.size());
  for (std::uint64_t done = 0; done < data.size();) {
    const std::uint64_t at = offset + done;
    if (at >= direct_from_) {
      // The present state ends before: nothing of it is here, whatever the caller thinks.
      write_past_end(at, data.subspan(done));
      return;
    }
    const std::uint64_t number = at / page_size;
    const std::uint64_t in_page = at % page_size;
    const std::uint64_t step = std::min(data.size() - done, page_size - in_page);
    const bool is_held = pages_.contains(number);
    Page& page = hold(number, step == page_size);
    if (unreferenced && !is_held && step == page_size && at + step <= old_size_) {
      // Only a page that is unreferenced as a whole may be torn by a crash without harm.
      page.unreferenced = true;
      ++waiting_;
    } else if (!unreferenced && page.unreferenced) {
      page.unreferenced = false;
      --waiting_;
    }
    std::memcpy(page.data.data() + in_page, data.data() + done, step);
    done += step;
    if (waiting_ >= max_waiting) spill();
  }
}

void Stage::write_past_end(std::uint64_t offset, ConstByteSpan data) {
  if (base_.size() < size_) base_.resize(size_);
  base_.write(offset, data);
  add_range(direct_, offset, offset + data.size());
  written_since_ += data.size();
  if (written_since_ < worth_bringing_out) return;
  written_since_ = 0;
  base_.begin_flush();
}

// Pages that wait to be written directly, in runs of neighbours: start → length.
std::vector<std::pair<std::uint64_t, std::uint64_t>> Stage::waiting_runs() const {
  std::vector<std::pair<std::uint64_t, std::uint64_t>> runs;
  for (const auto& [number, page] : pages_) {
    if (!page->unreferenced) continue;
    const std::uint64_t at = number * page_size;
    if (!runs.empty() && at == runs.back().first + runs.back().second &&
        runs.back().second < ledger::max_payload)
      runs.back().second += page_size;
    else
      runs.emplace_back(at, page_size);
  }
  return runs;
}

// Only the first time: after that the image holds what the change itself wrote.
void Stage::keep_old(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = offset + length;
  while (offset < end) {
    auto next = kept_.upper_bound(offset);
    if (next != kept_.begin()) {
      const auto& [start, kept] = *std::prev(next);
      if (start + kept.length > offset) {
        offset = start + kept.length;
        continue;
      }
    }
    const std::uint64_t most = (next == kept_.end() ? end : std::min(end, next->first)) - offset;
    const Run run = base_.map(offset, most);
    const std::uint64_t step = run.zero ? run.length : std::min(run.length, ledger::max_payload);
    std::uint64_t at = 0;
    if (run.zero)
      ledger_.append_zero(ledger::RecordKind::before_direct, index_, offset, step);
    else
      at = ledger_.append(ledger::RecordKind::before_direct, index_, offset,
                          read_buffer(base_, offset, step));
    const auto before = next == kept_.begin() ? kept_.end() : std::prev(next);
    const bool joins = before != kept_.end() && at == 0 && before->second.at == 0 &&
                       before->first + before->second.length == offset;
    if (joins)
      before->second.length += step;
    else
      kept_[offset] = {step, at};
    offset += step;
  }
}

bool Stage::has_old(std::uint64_t offset, std::uint64_t length) const {
  const auto next = kept_.upper_bound(offset);
  if (next != kept_.begin() && std::prev(next)->first + std::prev(next)->second.length > offset)
    return true;
  return next != kept_.end() && next->first < offset + length;
}

void Stage::read_old(std::uint64_t offset, ByteSpan out) {
  base_read(offset, out);
  const std::uint64_t end = offset + out.size();
  auto kept = kept_.upper_bound(offset);
  if (kept != kept_.begin()) --kept;
  for (; kept != kept_.end() && kept->first < end; ++kept) {
    const std::uint64_t from = std::max(kept->first, offset);
    const std::uint64_t to = std::min(kept->first + kept->second.length, end);
    if (from >= to) continue;
    const ByteSpan part = out.subspan(from - offset, to - from);
    if (kept->second.at == 0)
      std::fill(part.begin(), part.end(), std::uint8_t{0});
    else
      ledger_.read_back(kept->second.at + (from - kept->first), part);
  }
}

// Old bytes into the ledger, the ledger onto the disk, and only then the new bytes into the image.
void Stage::spill() {
  if (waiting_ == 0) return;
  const auto runs = waiting_runs();
  if (!trusted_) {
    for (const auto& [at, length] : runs) keep_old(at, length);
    ledger_.flush();
  }
  Buffer fresh;
  for (const auto& [at, length] : runs) {
    fresh.clear();
    for (auto page = pages_.find(at / page_size); fresh.size() < length; ++page)
      fresh.insert(fresh.end(), page->second->data.begin(), page->second->data.end());
    base_.write(at, fresh);
    add_range(direct_, at, at + length);
  }
  std::erase_if(pages_, [](const auto& entry) { return entry.second->unreferenced; });
  waiting_ = 0;
}

Run Stage::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const auto held = pages_.lower_bound(offset / page_size);
  if (held != pages_.end() && held->first == offset / page_size)
    return {offset, std::min(length, (held->first + 1) * page_size - offset), false};
  if (held != pages_.end()) length = std::min(length, held->first * page_size - offset);
  if (offset >= base_.size()) return {offset, length, true};
  return base_.map(offset, std::min(length, base_.size() - offset));
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

void Stage::begin_flush() {
  spill();
  if (!direct_.empty()) base_.begin_flush();
}

void Stage::flush() {
  spill();
  if (!direct_.empty()) base_.flush();
}

void Stage::resize(std::uint64_t new_size) { size_ = new_size; }

void Stage::for_each_cut(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  // What was written directly there has its old bytes in the ledger already.
  std::uint64_t at = size_;
  for (const auto& [start, end] : direct_) {
    if (end <= at || start >= old_size_) continue;
    if (start > at) visit(at, start - at);
    at = end;
  }
  if (at < old_size_) visit(at, old_size_ - at);
}

std::uint64_t Stage::written_directly() const {
  std::uint64_t total = 0;
  for (const auto& [start, end] : direct_) total += end - start;
  return total;
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
    base_read(at, old);
    const auto& fresh = page->data;
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
  spill();
  for (const auto& [start, end] : direct_)
    if (start < size_) visit(start, std::min(end, size_) - start);
}

}  // namespace jh
