#include "core/store/store.h"

#include <fmt/format.h>

#include "core/base/checksum.h"

namespace jh {
namespace {

constexpr std::uint64_t piece_size = 1U << 20;

}  // namespace

void Store::check_range(std::uint64_t offset, std::uint64_t length) const {
  const std::uint64_t end = size();
  if (offset > end || length > end - offset)
    damaged(fmt::format("bytes {} to {} are asked for, but there are only {}", offset,
                        offset + length, end),
            name());
}

bool all_zero(ConstByteSpan data) {
  // Comparing the range with itself shifted by one lets memcmp do the work at memory speed.
  return data.empty() ||
         (data[0] == 0 && std::memcmp(data.data(), data.data() + 1, data.size() - 1) == 0);
}

void discard_data(Store& store, std::uint64_t offset, std::uint64_t length) {
  while (length != 0) {
    const Range run = store.map(offset, length);
    if (!run.zero) store.discard(offset, run.length);
    offset += run.length;
    length -= run.length;
  }
}

bool holds(Store& store, std::uint64_t offset, std::string_view bytes) {
  if (store.size() < offset + bytes.size()) return false;
  const Buffer found = read_buffer(store, offset, bytes.size());
  return std::memcmp(found.data(), bytes.data(), bytes.size()) == 0;
}

std::uint32_t crc32c_of(Store& store, std::uint64_t offset, std::uint64_t length) {
  constexpr std::uint64_t piece = 1U << 20;
  std::uint32_t state = ~0U;
  for (std::uint64_t done = 0; done < length; done += piece)
    state =
        crc32c_raw(state, read_buffer(store, offset + done,
                                      static_cast<std::size_t>(std::min(piece, length - done))));
  return ~state;
}

Buffer read_buffer(Store& store, std::uint64_t offset, std::size_t length) {
  store.check_range(offset, length);  // before the allocation: the length may come from disk
  Buffer buffer(length);
  store.read(offset, buffer);
  return buffer;
}

bool range_is_zero(Store& store, std::uint64_t offset, std::uint64_t length) {
  Buffer piece;
  while (length != 0) {
    const Range run = store.map(offset, length);
    std::uint64_t step = run.length;
    if (!run.zero) {
      step = std::min(step, piece_size);
      piece.resize(step);
      store.read(offset, piece);
      if (!all_zero(piece)) return false;
    }
    offset += step;
    length -= step;
  }
  return true;
}

void write_into_zeros(Store& store, std::uint64_t offset, ConstByteSpan data) {
  constexpr std::uint64_t page = 4096;
  while (!data.empty()) {
    // A run of pages that are all zero, or all not.
    std::size_t run = 0;
    bool zero = false;
    while (run < data.size()) {
      const std::size_t step =
          std::min<std::size_t>(data.size() - run, page - (offset + run) % page);
      const bool is_zero = all_zero(data.subspan(run, step));
      if (run != 0 && is_zero != zero) break;
      zero = is_zero;
      run += step;
    }
    if (!zero) store.write_unreferenced(offset, data.first(run));
    offset += run;
    data = data.subspan(run);
  }
}

namespace {

struct SharedPart {
  std::uint64_t shared = 0;
  std::uint64_t in_front = 0;  // to be copied first: behind it the place may be one to share
};

SharedPart share_part(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                      std::uint64_t length) {
  const Location source = from.locate(offset, length);
  if (source.store == nullptr) return {};
  const std::uint64_t in_front = round_up(source.at, share_alignment) - source.at;
  if (in_front != 0) return {0, in_front};
  return {to.share_unreferenced(target, source), 0};
}

}  // namespace

void copy_unreferenced(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                       std::uint64_t length) {
  constexpr std::uint64_t most = 256U << 10;  // stays in the processor's cache in between
  Buffer content;
  while (length != 0) {
    std::uint64_t whole = length;
    if (length >= most) {
      const SharedPart part = share_part(from, offset, to, target, length);
      if (part.shared != 0) {
        offset += part.shared;
        target += part.shared;
        length -= part.shared;
        continue;
      }
      if (part.in_front != 0) whole = part.in_front;
    }
    const Range source = from.map(offset, whole);
    const Range there = to.map(target, source.length);
    std::uint64_t step = there.length;
    if (!source.zero || !there.zero) {
      step = std::min(step, most);
      content.resize(step);
      from.read(offset, content);
      to.write_unreferenced(target, content);
    }
    offset += step;
    target += step;
    length -= step;
  }
}

std::uint64_t write_zeros_where_needed(Store& store, std::uint64_t offset, std::uint64_t length) {
  std::uint64_t written = 0;
  while (length != 0) {
    const Range run = store.map(offset, length);
    std::uint64_t step = run.length;
    if (!run.zero) {
      step = std::min<std::uint64_t>(step, 65536);
      if (!range_is_zero(store, offset, step)) {
        store.write_unreferenced(offset, Buffer(step));
        written += step;
      }
    }
    offset += step;
    length -= step;
  }
  return written;
}

}  // namespace jh
