#include "core/store/scratch_store.h"

namespace jh {

void ScratchStore::read_rest(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t end = shown_;
  const std::uint64_t there = offset >= end ? 0 : std::min<std::uint64_t>(out.size(), end - offset);
  if (there != 0) below_.read(offset, out.first(there));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::uint8_t{0});
  for_each_inside(spilled_, offset, offset + out.size(), [&](std::uint64_t from, std::uint64_t to) {
    spill_->read(from, out.subspan(from - offset, to - from));
  });
}

// Whether a place of the spill is in use is noted here: some hosts take zeros for holes.
void ScratchStore::spill_if_full() {
  if (overlay_.taken() <= most_in_memory_) return;
  constexpr std::uint64_t piece = 1U << 20;
  Buffer bytes;
  for (std::uint64_t at = 0; at < size();) {
    Range run = overlay_.map(at, size() - at);
    if (!run.zero) {
      run.length = std::min(run.length, piece);
      bytes.resize(run.length);
      overlay_.read(at, bytes);
      spill_->write(at, bytes);
      add_range(spilled_, at, at + run.length);
    }
    at += run.length;
  }
  overlay_.assign(MemoryStore(size(), overlay_.name()));
}

std::uint64_t ScratchStore::changed() const {
  std::uint64_t sum = overlay_.taken();
  for (const auto& [from, to] : spilled_) sum += to - from;
  return sum;
}

void ScratchStore::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  while (!out.empty()) {
    const Range run = overlay_.map(offset, out.size());
    const ByteSpan part = out.first(run.length);
    if (run.zero) {
      read_rest(offset, part);
    } else {
      overlay_.read(offset, part);
    }
    offset += run.length;
    out = out.subspan(run.length);
  }
}

void ScratchStore::write(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  if (data.empty()) return;
  // Pages that are covered in part only bring the rest of their content along.
  constexpr std::uint64_t page = MemoryStore::page_size;
  for (const std::uint64_t at : {offset, offset + data.size() - 1}) {
    const std::uint64_t start = round_down(at, page);
    const std::uint64_t length = std::min(page, size() - start);
    if (!overlay_.map(start, length).zero) continue;
    Buffer content(length);
    read_rest(start, content);
    overlay_.write(start, content);
  }
  overlay_.write(offset, data);
  spill_if_full();
}

Range ScratchStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  Range run = overlay_.map(offset, length);
  if (!run.zero) return run;
  const std::uint64_t end = offset + run.length;
  if (const std::uint64_t spilled = first_outside(spilled_, offset, end); spilled != offset)
    return {offset, spilled - offset, false};
  run.length = first_inside(spilled_, offset, end) - offset;
  if (offset >= shown_) return {offset, run.length, true};
  return below_.map(offset, std::min(run.length, shown_ - offset));
}

Location ScratchStore::locate(std::uint64_t offset, std::uint64_t length) {
  Range run = overlay_.map(offset, length);
  if (!run.zero) return {nullptr, offset, run.length};
  const std::uint64_t end = offset + run.length;
  if (const std::uint64_t spilled = first_outside(spilled_, offset, end); spilled != offset)
    return {nullptr, offset, spilled - offset};
  run.length = first_inside(spilled_, offset, end) - offset;
  if (offset >= shown_) return {nullptr, offset, run.length};
  return below_.locate(offset, std::min(run.length, shown_ - offset));
}

void ScratchStore::resize(std::uint64_t new_size) {
  shown_ = std::min(shown_, new_size);
  overlay_.resize(new_size);
  remove_range(spilled_, new_size, UINT64_MAX);
  if (spill_) spill_->resize(new_size);
}

void ScratchStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  constexpr std::uint64_t piece = 1U << 20;
  for (std::uint64_t done = 0; done < length; done += piece)
    write(offset + done, Buffer(std::min(piece, length - done)));
}

bool ScratchStore::is_changed(std::uint64_t offset, std::uint64_t length) {
  const Range run = overlay_.map(offset, length);
  return !run.zero || run.length < length || overlaps(spilled_, offset, offset + length);
}

}  // namespace jh
