#include "core/container/block_container.h"

namespace jh {

void BlockContainer::read_packed(std::uint64_t, ByteSpan) {
  ensure(false, "this form has packed blocks");
}

Piece BlockContainer::from_below(std::uint64_t offset, std::uint64_t length) {
  if (!below_) return {Piece::Kind::zero, length, nullptr, 0};
  const std::uint64_t end = below_->disk().size();
  const std::uint64_t at = checked_add(offset, below_start_);
  if (at >= end) return {Piece::Kind::zero, length, nullptr, 0};
  return below_->piece_at(at, std::min(length, end - at));
}

Piece BlockContainer::piece_at(std::uint64_t offset, std::uint64_t length) {
  ensure(length != 0 && offset < disk_size() && length <= disk_size() - offset,
         "a piece lies inside the disk");
  Piece piece = find(offset, length);
  if (piece.kind == Piece::Kind::below) return from_below(offset, piece.length);
  // Neighbours in the disk that are neighbours in the file too make one piece.
  while (piece.length < length && piece.kind != Piece::Kind::packed) {
    const Piece next = find(offset + piece.length, length - piece.length);
    if (next.kind != piece.kind || next.store != piece.store ||
        (piece.kind == Piece::Kind::data && next.at != piece.at + piece.length))
      break;
    piece.length += next.length;
  }
  return piece;
}

std::uint64_t BlockContainer::end_of_last_block() {
  const std::uint64_t inside = (disk_size() - 1) % block_size();
  const std::uint64_t start = disk_size() - 1 - inside;
  const Piece piece = find(start, 1);
  return piece.kind == Piece::Kind::data ? piece.at + block_size() : 0;
}

void BlockContainer::forget(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = offset + length;
  const std::uint64_t first = ceil_div(offset, block_size());
  const std::uint64_t stop = end == disk_size() ? ceil_div(end, block_size()) : end / block_size();
  if (stop > first) forget_blocks(first, stop - first);
}

void BlockContainer::copy_within(Store& file, std::uint64_t from, std::uint64_t to,
                                 std::uint64_t length) {
  if (file.size() < to + length) file.resize(to + length);
  if (tables_only_) return;
  constexpr std::uint64_t most = 1U << 20;
  Buffer content;
  for (std::uint64_t done = 0; done < length; done += most) {
    const std::uint64_t step = std::min(most, length - done);
    content.assign(step, 0);
    const std::uint64_t there =
        from + done >= file.size() ? 0 : std::min(step, file.size() - from - done);
    if (there != 0) file.read(from + done, ByteSpan(content).first(there));
    file.write_unreferenced(to + done, content);
  }
}

void BlockContainer::clear_tail(std::uint64_t new_size) {
  const std::uint64_t end = std::min(disk_size(), round_up(new_size, block_size()));
  if (end > new_size) disk_.discard(new_size, end - new_size);
}

std::uint64_t BlockContainer::blocks_kept() {
  std::uint64_t kept = 0;
  std::uint64_t counted_to = 0;  // blocks
  for (std::uint64_t at = 0; at < disk_size();) {
    const Piece piece = find(at, disk_size() - at);
    if (piece.kind == Piece::Kind::data || piece.kind == Piece::Kind::packed) {
      const std::uint64_t first = std::max(counted_to, at / block_size());
      counted_to = ceil_div(at + piece.length, block_size());
      if (counted_to > first) kept += counted_to - first;
    }
    at += piece.length;
  }
  return kept;
}

void BlockContainer::Disk::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  while (!out.empty()) {
    const Piece piece = owner_.piece_at(offset, out.size());
    const ByteSpan part = out.first(piece.length);
    switch (piece.kind) {
      case Piece::Kind::data:
        piece.store->read(piece.at, part);
        break;
      case Piece::Kind::packed:
        // Packed in this image, or somewhere below it.
        if (owner_.find(offset, part.size()).kind == Piece::Kind::packed)
          owner_.read_packed(offset, part);
        else
          owner_.below_->disk().read(offset + owner_.below_start_, part);
        break;
      default:
        std::fill(part.begin(), part.end(), std::uint8_t{0});
    }
    offset += piece.length;
    out = out.subspan(piece.length);
  }
}

Run BlockContainer::Disk::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const Piece piece = owner_.piece_at(offset, length);
  if (piece.kind == Piece::Kind::data) {
    const Run run = piece.store->map(piece.at, piece.length);
    return {offset, run.length, run.zero};
  }
  return {offset, piece.length, piece.kind == Piece::Kind::zero};
}

Location BlockContainer::Disk::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const Piece piece = owner_.piece_at(offset, length);
  if (piece.kind != Piece::Kind::data) return {nullptr, 0, piece.length};
  return piece.store->locate(piece.at, piece.length);
}

void BlockContainer::Disk::put(std::uint64_t offset, ConstByteSpan data, bool unreferenced) {
  check_range(offset, data.size());
  while (!data.empty()) {
    Piece piece = owner_.find(offset, data.size());
    // New blocks side by side are written, and noted in their table, at once.
    while (piece.kind != Piece::Kind::data && piece.length < data.size()) {
      const Piece next = owner_.find(offset + piece.length, data.size() - piece.length);
      if (next.kind != piece.kind) break;
      piece.length += next.length;
    }
    std::size_t done = piece.length;
    if (piece.kind == Piece::Kind::data) {
      const ConstByteSpan part = data.first(piece.length);
      unreferenced ? piece.store->write_unreferenced(piece.at, part)
                   : piece.store->write(piece.at, part);
    } else {
      const bool zero_now =
          piece.kind == Piece::Kind::zero || (piece.kind == Piece::Kind::below && !owner_.below_);
      done = put_in_new_blocks(offset, data.first(piece.length), zero_now);
    }
    offset += done;
    data = data.subspan(done);
  }
}

// `data` begins where no block has a place. Returns how much of it was dealt with.
std::size_t BlockContainer::Disk::put_in_new_blocks(std::uint64_t offset, ConstByteSpan data,
                                                    bool zero_now) {
  const std::uint64_t block = owner_.block_size();
  const std::uint64_t inside = offset % block;
  if (inside == 0 && data.size() >= block) {
    // Blocks that would only hold zeros stay without a place.
    const std::size_t whole = data.size() / block;
    std::size_t count = 0;
    while (count < whole &&
           !(zero_now && all_zero(data.subspan(count * block, static_cast<std::size_t>(block)))))
      ++count;
    if (count == 0) return block;
    owner_.put_blocks(offset / block, count, 0, data.first(count * block));
    return count * block;
  }
  const auto step = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), block - inside));
  const ConstByteSpan part = data.first(step);
  if (zero_now && all_zero(part)) return step;
  const std::uint64_t start = offset - inside;
  const std::uint64_t length = std::min(block, size() - start);
  const Piece whole = owner_.find(start, length);
  if (zero_now && whole.kind != Piece::Kind::data && whole.length == length) {
    owner_.put_blocks(offset / block, 1, inside, part);
    return step;
  }
  Buffer content(block);
  read(start, ByteSpan(content).first(length));
  std::copy(part.begin(), part.end(), content.begin() + static_cast<std::ptrdiff_t>(inside));
  owner_.put_blocks(offset / block, 1, 0, content);
  return step;
}

void BlockContainer::Disk::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const std::uint64_t block = owner_.block_size();
  const Buffer zeros(std::min<std::uint64_t>(length, block));
  while (length != 0) {
    const std::uint64_t inside = offset % block;
    std::uint64_t step = std::min(length, block - inside);
    // The last block of a disk may reach past its end.
    if (inside == 0 && (step == block || offset + step == size())) {
      step = std::min(length, round_down(length, block) == 0 ? step : round_down(length, block));
      owner_.drop_blocks(offset / block, ceil_div(step, block));
    } else {
      const Run run = map(offset, step);
      step = run.length;
      if (!run.zero) write(offset, ConstByteSpan(zeros).first(step));
    }
    offset += step;
    length -= step;
  }
}

void BlockContainer::Disk::resize(std::uint64_t) {
  ensure(false, "a disk is resized through its container");
}

}  // namespace jh
