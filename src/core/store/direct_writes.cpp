#include "core/store/direct_writes.h"

#include "core/base/checksum.h"

namespace jh {

using ledger::RecordKind;

void DirectWrites::read(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t end = base_.size();
  const std::uint64_t there = offset >= end ? 0 : std::min<std::uint64_t>(out.size(), end - offset);
  base_.read(offset < end ? offset : end, out.first(there));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::uint8_t{0});
}

Range DirectWrites::map(std::uint64_t offset, std::uint64_t length) {
  if (offset >= base_.size()) return {offset, length, true};
  return base_.map(offset, std::min(length, base_.size() - offset));
}

// Into the ledger. Only the first time: after that the image holds what the change itself wrote.
// Returns how much of it was kept.
std::uint64_t DirectWrites::keep_run(std::uint64_t offset, std::uint64_t length) {
  const Range run = base_.map(offset, length);
  if (!run.zero && run.length >= ledger::worth_sharing) {
    const Ledger::Shared shared =
        ledger_.append_shared(RecordKind::before_direct, image_, offset, base_, offset, run.length);
    if (shared.length != 0) {
      kept_[offset] = {shared.length, shared.at, true};
      return shared.length;
    }
  }
  const std::uint64_t step =
      std::min(length, run.zero ? run.length : std::min(run.length, ledger::max_payload));
  std::uint64_t at = 0;
  if (run.zero)
    ledger_.append_zero(RecordKind::before_direct, image_, offset, step);
  else
    at =
        ledger_.append(RecordKind::before_direct, image_, offset, read_buffer(base_, offset, step));
  const auto next = kept_.lower_bound(offset);
  const auto before = next == kept_.begin() ? kept_.end() : std::prev(next);
  const bool joins = before != kept_.end() && at == 0 && before->second.at == 0 &&
                     before->first + before->second.length == offset;
  if (joins)
    before->second.length += step;
  else
    kept_.emplace_hint(next, offset, Kept{step, at});
  return step;
}

void DirectWrites::keep_old(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = std::min(offset + length, old_size_);
  while (offset < end) {
    auto kept = kept_.upper_bound(offset);
    const std::uint64_t next = kept == kept_.end() ? end : std::min(end, kept->first);
    if (kept != kept_.begin()) {
      const auto& [start, here] = *std::prev(kept);
      if (start + here.length > offset) {
        offset = start + here.length;
        continue;
      }
    }
    offset += keep_run(offset, next - offset);
  }
}

void DirectWrites::write(std::uint64_t offset, ConstByteSpan data) {
  if (data.empty()) return;
  const std::uint64_t end = offset + data.size();
  ensure(offset >= old_size_ || (offset % page_size == 0 && data.size() % page_size == 0) ||
             has_page(round_down(offset, page_size)),
         "direct writes inside the old image are of whole pages");
  if (!trusted_) keep_old(offset, data.size());
  base_.write(offset, data);
  add_range(done_, offset, end);
  const std::uint64_t first = round_up(offset, ledger::sector_size);
  const std::uint64_t last = round_down(end, ledger::sector_size);
  if (first < last) append_sums(first, data.subspan(first - offset, last - first));
  if (offset != first) add_range(unsummed_, first - ledger::sector_size, first);
  if (end != last && last >= first) add_range(unsummed_, last, last + ledger::sector_size);
}

std::uint64_t DirectWrites::share(std::uint64_t offset, Store& from, std::uint64_t source,
                                  std::uint64_t length) {
  // What the ledger says of a sector that was written in part would count as said last.
  length = round_down(length, page_size);
  if (offset % page_size != 0 || overlaps(unsummed_, offset, offset + length)) return 0;
  // First of all the ledger: where it cannot, sums are needed, and for them the bytes.
  const Ledger::Shared kept =
      ledger_.append_shared(RecordKind::wrote, image_, offset, from, source, length);
  if (kept.length == 0) return 0;
  if (!trusted_) keep_old(offset, kept.length);
  add_range(done_, offset, offset + kept.length);
  const std::uint64_t done = base_.share(offset, from, source, kept.length);
  shared_ += done;
  for (std::uint64_t at = done; at < kept.length; at += ledger::max_payload) {
    const std::uint64_t step = std::min(ledger::max_payload, kept.length - at);
    base_.write(offset + at, read_buffer(from, source + at, step));
  }
  return kept.length;
}

void DirectWrites::append_sums(std::uint64_t offset, ConstByteSpan data) {
  constexpr std::uint64_t most = ledger::max_payload / sizeof(Le32) * ledger::sector_size;
  Buffer checksums;
  while (!data.empty()) {
    const std::uint64_t step = std::min<std::uint64_t>(data.size(), most);
    checksums.resize(ceil_div(step, ledger::sector_size) * sizeof(Le32));
    for (std::uint64_t at = 0; at < step; at += ledger::sector_size) {
      Le32 checksum;
      checksum = crc32c(data.subspan(at, std::min(ledger::sector_size, step - at)));
      put_at(checksums, at / ledger::sector_size * sizeof(Le32), checksum);
    }
    ledger_.append_about(RecordKind::wrote, image_, offset, step, checksums);
    offset += step;
    data = data.subspan(step);
  }
}

void DirectWrites::finish_sums() {
  for (const auto& [start, stop] : unsummed_) {
    const std::uint64_t end = std::min(stop, base_.size());
    for (std::uint64_t at = start; at < end; at += ledger::max_payload)
      append_sums(at, read_buffer(base_, at, std::min(ledger::max_payload, end - at)));
  }
  unsummed_.clear();
}

void DirectWrites::put_back() {
  if (done_.empty() && base_.size() == old_size_) return;
  if (base_.size() != old_size_) base_.resize(old_size_);
  Buffer old;
  for (const auto& each : kept_) {
    const std::uint64_t start = each.first;
    const auto& kept = each.second;
    const std::uint64_t stop = std::min(start + kept.length, old_size_);
    for_each_inside(done_, start, stop, [&](std::uint64_t from, std::uint64_t to) {
      if (kept.at == 0) return discard_data(base_, from, to - from);
      if (kept.shared) return ledger_.give_back(kept.at + (from - start), base_, from, to - from);
      for (std::uint64_t at = from; at < to; at += old.size()) {
        old.resize(std::min(ledger::max_payload, to - at));
        ledger_.read_back(kept.at + (at - start), old);
        base_.write(at, old);
      }
    });
  }
  base_.flush();
}

void DirectWrites::begin_flush() {
  if (!done_.empty()) base_.begin_flush();
}

void DirectWrites::flush() {
  if (!done_.empty()) base_.flush();
}

std::uint64_t DirectWrites::total() const {
  std::uint64_t total = 0;
  for (const auto& [start, end] : done_) total += end - start;
  return total;
}

void DirectWrites::read_old(std::uint64_t offset, ByteSpan out) {
  read(offset, out);
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
  if (end > old_size_)
    std::fill(out.begin() + static_cast<std::ptrdiff_t>(std::max(offset, old_size_) - offset),
              out.end(), std::uint8_t{0});
}

Range DirectWrites::map_old(std::uint64_t offset, std::uint64_t length) {
  auto kept = kept_.upper_bound(offset);
  if (kept != kept_.end()) length = std::min(length, kept->first - offset);
  if (kept != kept_.begin()) {
    const auto& [start, here] = *std::prev(kept);
    if (start + here.length > offset)
      return {offset, std::min(length, start + here.length - offset), here.at == 0};
  }
  if (offset >= old_size_) return {offset, length, true};
  return base_.map(offset, std::min(length, old_size_ - offset));
}

}  // namespace jh
