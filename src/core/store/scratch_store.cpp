#include "core/store/scratch_store.h"

namespace jh {

void ScratchStore::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  while (!out.empty()) {
    const Run run = overlay_.map(offset, out.size());
    const ByteSpan part = out.first(run.length);
    if (run.zero) {
      below_.read(offset, part);
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
    if (overlay_.map(start, length).zero) overlay_.write(start, read_buffer(below_, start, length));
  }
  overlay_.write(offset, data);
}

Run ScratchStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const Run run = overlay_.map(offset, length);
  return run.zero ? below_.map(offset, run.length) : run;
}

void ScratchStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  constexpr std::uint64_t piece = 1U << 20;
  for (std::uint64_t done = 0; done < length; done += piece)
    write(offset + done, Buffer(std::min(piece, length - done)));
}

bool ScratchStore::is_changed(std::uint64_t offset, std::uint64_t length) {
  const Run run = overlay_.map(offset, length);
  return !run.zero || run.length < length;
}

}  // namespace jh
