#include "core/store/direct_writes.h"

#include "core/base/checksum.h"

namespace jh {
namespace {

using ledger::RecordKind;

// What waits at most: enough to make one flush of the ledger serve many writes.
constexpr std::uint64_t most_waiting = 16U << 20;
// A hole so large is kept as a whole, for one record, and what follows in it need not wait. So are
// those behind it, since one flush serves them all; as many as are found soon.
constexpr std::uint64_t worth_keeping_ahead = 4U << 20;
constexpr int most_holes_at_once = 1024;
constexpr int most_runs_looked_at = 16384;
// A sum of less is not worth a record: it is read back together with its neighbours.
constexpr std::uint64_t worth_a_sum = 16384;

template <class Stretch>
std::uint64_t length_of(const Stretch& stretch) {
  if constexpr (requires { stretch.size(); })
    return stretch.size();
  else
    return stretch.length;
}

// In a map of disjoint stretches: the one that `offset` lies in, or else the one behind it.
template <class Map>
auto at_or_behind(Map& map, std::uint64_t offset) {
  auto found = map.upper_bound(offset);
  if (found == map.begin()) return found;
  const auto before = std::prev(found);
  return before->first + length_of(before->second) > offset ? before : found;
}

}  // namespace

void DirectWrites::read_base(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t end = base_.size();
  const std::uint64_t there = offset >= end ? 0 : std::min<std::uint64_t>(out.size(), end - offset);
  base_.read(offset < end ? offset : end, out.first(there));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::uint8_t{0});
}

void DirectWrites::read(std::uint64_t offset, ByteSpan out) {
  read_base(offset, out);
  if (waiting_.empty()) return;
  const std::uint64_t end = offset + out.size();
  for (auto run = at_or_behind(waiting_, offset); run != waiting_.end() && run->first < end;
       ++run) {
    const std::uint64_t from = std::max(run->first, offset);
    const std::uint64_t to = std::min(run->first + run->second.size(), end);
    std::memcpy(out.data() + (from - offset), run->second.data() + (from - run->first), to - from);
  }
}

Run DirectWrites::map(std::uint64_t offset, std::uint64_t length) {
  if (!waiting_.empty()) {
    const auto run = at_or_behind(waiting_, offset);
    if (run != waiting_.end() && run->first <= offset)
      return {offset, std::min(length, run->first + run->second.size() - offset), false};
    if (run != waiting_.end()) length = std::min(length, run->first - offset);
  }
  if (offset >= base_.size()) return {offset, length, true};
  return base_.map(offset, std::min(length, base_.size() - offset));
}

bool DirectWrites::has_page(std::uint64_t offset) const {
  if (meets(done_, offset, offset + page_size)) return true;
  const auto run = at_or_behind(waiting_, offset);
  return run != waiting_.end() && run->first <= offset;
}

void DirectWrites::write_again(std::uint64_t offset, ConstByteSpan data) {
  const auto run = at_or_behind(waiting_, offset);
  if (run != waiting_.end() && run->first <= offset)
    std::copy(data.begin(), data.end(),
              run->second.begin() + static_cast<std::ptrdiff_t>(offset - run->first));
  else
    bring_out(offset, data);
}

// Where the first byte at or behind `offset` is that has not been kept.
std::uint64_t DirectWrites::not_kept_from(std::uint64_t offset) const {
  for (auto kept = at_or_behind(kept_, offset); kept != kept_.end() && kept->first <= offset;
       ++kept)
    offset = kept->first + kept->second.length;
  return offset;
}

// Into the ledger, but not yet onto its disk. Only the first time: after that the image holds what
// the change itself wrote. Returns how much of it was kept.
std::uint64_t DirectWrites::keep_run(std::uint64_t offset, std::uint64_t length, const Run& run) {
  const auto next = kept_.upper_bound(offset);
  if (next != kept_.end()) length = std::min(length, next->first - offset);
  const std::uint64_t step =
      std::min(length, run.zero ? run.length : std::min(run.length, ledger::max_payload));
  std::uint64_t at = 0;
  if (run.zero)
    ledger_.append_zero(RecordKind::before_direct, image_, offset, step);
  else
    at =
        ledger_.append(RecordKind::before_direct, image_, offset, read_buffer(base_, offset, step));
  const auto before = next == kept_.begin() ? kept_.end() : std::prev(next);
  const bool joins = before != kept_.end() && at == 0 && before->second.at == 0 &&
                     before->first + before->second.length == offset;
  if (joins)
    before->second.length += step;
  else
    kept_[offset] = {step, at};
  return step;
}

void DirectWrites::keep_old(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = offset + length;
  while ((offset = not_kept_from(offset)) < end) {
    const Run run = base_.map(offset, old_size_ - offset);
    const bool ahead = run.zero && run.length >= worth_keeping_ahead;
    offset += keep_run(offset, ahead ? run.length : end - offset, run);
  }
}

// How many bytes from `offset` on may be overwritten now. Large holes are kept on the way.
std::uint64_t DirectWrites::ready_from(std::uint64_t offset) {
  if (trusted_) return old_size_ - offset;
  if (const std::uint64_t kept = not_kept_from(offset); kept != offset) return kept - offset;
  const Run here = base_.map(offset, old_size_ - offset);
  if (!here.zero || here.length < worth_keeping_ahead) return 0;
  const std::uint64_t ready = keep_run(offset, here.length, here);
  int holes = 1;
  std::uint64_t at = offset + here.length;
  for (int runs = 0; at < old_size_ && runs < most_runs_looked_at; ++runs) {
    const Run run = base_.map(at, old_size_ - at);
    if (run.zero && run.length >= worth_keeping_ahead && not_kept_from(at) == at) {
      keep_run(at, run.length, run);
      if (++holes == most_holes_at_once) break;
    }
    at += run.length;
  }
  ledger_.flush();
  return ready;
}

void DirectWrites::write(std::uint64_t offset, ConstByteSpan data) {
  ensure(
      offset % page_size == 0 && data.size() % page_size == 0 && offset + data.size() <= old_size_,
      "direct writes inside the old image are of whole pages");
  const auto run = at_or_behind(waiting_, offset);
  if (run != waiting_.end() && run->first < offset + data.size()) spill();  // parts of it again
  while (!data.empty()) {
    std::uint64_t step =
        round_down(std::min<std::uint64_t>(data.size(), ready_from(offset)), page_size);
    if (step != 0) {
      bring_out(offset, data.first(step));
    } else {
      // Page by page would do; what lies in one run is looked at once.
      const Run here = base_.map(offset, data.size());
      step = std::max(page_size, round_down(here.length, page_size));
      wait(offset, data.first(step));
    }
    offset += step;
    data = data.subspan(step);
  }
}

void DirectWrites::wait(std::uint64_t offset, ConstByteSpan data) {
  auto before = waiting_.lower_bound(offset);
  const bool joins = before != waiting_.begin() &&
                     (--before, before->first + before->second.size() == offset) &&
                     before->second.size() + data.size() <= ledger::max_payload;
  if (joins)
    before->second.insert(before->second.end(), data.begin(), data.end());
  else
    waiting_[offset] = Buffer(data.begin(), data.end());
  waiting_bytes_ += data.size();
  if (waiting_bytes_ >= most_waiting) spill();
}

// Old bytes into the ledger, the ledger onto the disk, and only then the new bytes into the image.
void DirectWrites::spill() {
  if (waiting_.empty()) return;
  for (const auto& [at, bytes] : waiting_) keep_old(at, bytes.size());
  ledger_.flush();
  for (const auto& [at, bytes] : waiting_) bring_out(at, bytes);
  waiting_.clear();
  waiting_bytes_ = 0;
}

void DirectWrites::write_past_end(std::uint64_t offset, ConstByteSpan data) {
  bring_out(offset, data);
}

void DirectWrites::bring_out(std::uint64_t offset, ConstByteSpan data) {
  base_.write(offset, data);
  add_range(done_, offset, offset + data.size());
  if (!trusted_) note_sum(offset, data);
}

void DirectWrites::note_sum(std::uint64_t offset, ConstByteSpan data) {
  // Sums of what is written again are of no use any more.
  auto old = at_or_behind(sums_, offset);
  while (old != sums_.end() && old->first < offset + data.size()) old = sums_.erase(old);
  if (old != sums_.begin() && !data.empty()) {
    // Small pieces, one behind the other, make one sum.
    auto& [start, sum] = *std::prev(old);
    if (start + sum.length == offset && sum.length + data.size() <= ledger::max_payload) {
      sum.crc = ~crc32c_raw(~sum.crc, data);
      sum.length += data.size();
      return;
    }
  }
  while (!data.empty()) {
    const std::uint64_t step = std::min<std::uint64_t>(data.size(), ledger::max_payload);
    sums_.emplace_hint(old, offset, Sum{step, crc32c(data.first(step))});
    offset += step;
    data = data.subspan(step);
  }
}

void DirectWrites::for_each_sum(
    std::uint64_t end,
    const std::function<void(std::uint64_t, std::uint64_t, std::uint32_t)>& visit) {
  Buffer piece;
  const auto read_back = [&](std::uint64_t at, std::uint64_t to) {
    while (at < to) {
      piece.resize(std::min(ledger::max_payload, to - at));
      base_.read(at, piece);
      visit(at, piece.size(), crc32c(piece));
      at += piece.size();
    }
  };
  for (const auto& [start, stop] : done_) {
    if (start >= end) break;
    const std::uint64_t to = std::min(stop, end);
    std::uint64_t at = start;
    for (auto sum = sums_.lower_bound(start); sum != sums_.end() && sum->first < to; ++sum) {
      if (sum->second.length < worth_a_sum || sum->first + sum->second.length > to) continue;
      read_back(at, sum->first);
      visit(sum->first, sum->second.length, sum->second.crc);
      at = sum->first + sum->second.length;
    }
    read_back(at, to);
  }
}

void DirectWrites::begin_flush() {
  spill();
  if (!done_.empty()) base_.begin_flush();
}

void DirectWrites::flush() {
  spill();
  if (!done_.empty()) base_.flush();
}

std::uint64_t DirectWrites::total() const {
  std::uint64_t total = waiting_bytes_;
  for (const auto& [start, end] : done_) total += end - start;
  return total;
}

void DirectWrites::read_old(std::uint64_t offset, ByteSpan out) {
  read_base(offset, out);
  const std::uint64_t end = offset + out.size();
  for (auto kept = at_or_behind(kept_, offset); kept != kept_.end() && kept->first < end; ++kept) {
    const std::uint64_t from = std::max(kept->first, offset);
    const std::uint64_t to = std::min(kept->first + kept->second.length, end);
    const ByteSpan part = out.subspan(from - offset, to - from);
    if (kept->second.at == 0)
      std::fill(part.begin(), part.end(), std::uint8_t{0});
    else
      ledger_.read_back(kept->second.at + (from - kept->first), part);
  }
}

Run DirectWrites::map_old(std::uint64_t offset, std::uint64_t length) {
  const auto kept = at_or_behind(kept_, offset);
  if (kept != kept_.end() && kept->first <= offset)
    return {offset, std::min(length, kept->first + kept->second.length - offset),
            kept->second.at == 0};
  if (kept != kept_.end()) length = std::min(length, kept->first - offset);
  return base_.map(offset, length);
}

}  // namespace jh
