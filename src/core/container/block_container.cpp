#include "core/container/block_container.h"

namespace jh {

void BlockContainer::read_compressed(std::uint64_t, ByteSpan) {
  ensure(false, "this form has packed blocks");
}

Extent BlockContainer::from_below(std::uint64_t offset, std::uint64_t length) {
  if (!below_) return {Extent::Kind::zero, length, nullptr, 0};
  const std::uint64_t end = below_->disk().size();
  const std::uint64_t at = checked_add(offset, below_start_);
  if (at >= end) return {Extent::Kind::zero, length, nullptr, 0};
  return below_->extent_at(at, std::min(length, end - at));
}

Extent BlockContainer::extent_at(std::uint64_t offset, std::uint64_t length) {
  ensure(length != 0 && offset < disk_size() && length <= disk_size() - offset,
         "a piece lies inside the disk");
  Extent extent = find(offset, length);
  if (extent.kind == Extent::Kind::below) return from_below(offset, extent.length);
  // Neighbours in the disk that are neighbours in the file too make one piece.
  while (extent.length < length && extent.kind != Extent::Kind::compressed) {
    const Extent next = find(offset + extent.length, length - extent.length);
    if (next.kind != extent.kind || next.store != extent.store || next.shared != extent.shared ||
        (extent.kind == Extent::Kind::data && next.at != extent.at + extent.length))
      break;
    extent.length += next.length;
  }
  return extent;
}

std::uint64_t BlockContainer::end_of_last_block() {
  const std::uint64_t inside = (disk_size() - 1) % block_size();
  const std::uint64_t start = disk_size() - 1 - inside;
  const Extent extent = find(start, 1);
  return extent.kind == Extent::Kind::data ? extent.at + block_size() : 0;
}

std::pair<std::uint64_t, std::uint64_t> BlockContainer::whole_blocks(std::uint64_t offset,
                                                                     std::uint64_t length) const {
  const std::uint64_t end = offset + length;
  const std::uint64_t first = ceil_div(offset, block_size());
  const std::uint64_t stop = end == disk_size() ? ceil_div(end, block_size()) : end / block_size();
  return {first, stop > first ? stop - first : 0};
}

void BlockContainer::allocate(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = std::min(disk_size(), round_up(offset + length, block_size()));
  for (std::uint64_t at = round_down(offset, block_size()); at < end;) {
    std::uint64_t missing = 0;
    Extent extent;
    while (at + missing < end) {
      extent = find(at + missing, end - at - missing);
      if (extent.kind == Extent::Kind::data) break;
      missing += extent.length;
    }
    if (missing != 0) put_blocks(at / block_size(), ceil_div(missing, block_size()), 0, {});
    at += missing;
    if (at < end) at += extent.length;
  }
}

void BlockContainer::unmap(std::uint64_t offset, std::uint64_t length) {
  const auto [first, count] = whole_blocks(offset, length);
  if (count != 0) forget_blocks(first, count);
}

void BlockContainer::reveal_parent(std::uint64_t offset, std::uint64_t length) {
  ensure(below_ != nullptr, "only what builds on another can show it");
  const auto [first, count] = whole_blocks(offset, length);
  if (count != 0) uncover_blocks(first, count);
}

void BlockContainer::copy_within(Store& file, std::uint64_t from, std::uint64_t to,
                                 std::uint64_t length) {
  if (file.size() < to + length) file.resize(to + length);
  if (tables_only_) return;
  const std::uint64_t there = from >= file.size() ? 0 : std::min(length, file.size() - from);
  copy_unreferenced(file, from, file, to, there);
  write_zeros_where_needed(file, to + there, length - there);
}

void BlockContainer::copy_within(Store& file, const std::vector<MovableBlock>& moves,
                                 std::uint64_t length) {
  for (std::size_t i = 0; i < moves.size();) {
    std::uint64_t run = 0;
    const MovableBlock& first = moves[i];
    while (i < moves.size() && run < moved_at_once && moves[i].at == first.at + run &&
           moves[i].to == first.to + run) {
      run += length;
      ++i;
    }
    copy_within(file, first.at, first.to, run);
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
    const Extent extent = find(at, disk_size() - at);
    if (extent.kind == Extent::Kind::data || extent.kind == Extent::Kind::compressed) {
      const std::uint64_t first = std::max(counted_to, at / block_size());
      counted_to = ceil_div(at + extent.length, block_size());
      if (counted_to > first) kept += counted_to - first;
    }
    at += extent.length;
  }
  return kept;
}

void BlockContainer::Disk::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  while (!out.empty()) {
    const Extent extent = owner_.extent_at(offset, out.size());
    const ByteSpan part = out.first(extent.length);
    switch (extent.kind) {
      case Extent::Kind::data:
        extent.store->read(extent.at, part);
        break;
      case Extent::Kind::compressed:
        // Compressed in this image, or somewhere below it.
        if (owner_.find(offset, part.size()).kind == Extent::Kind::compressed)
          owner_.read_compressed(offset, part);
        else
          owner_.below_->disk().read(offset + owner_.below_start_, part);
        break;
      default:
        std::fill(part.begin(), part.end(), std::uint8_t{0});
    }
    offset += extent.length;
    out = out.subspan(extent.length);
  }
}

Range BlockContainer::Disk::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const Extent extent = owner_.extent_at(offset, length);
  if (extent.kind == Extent::Kind::data) {
    const Range run = extent.store->map(extent.at, extent.length);
    return {offset, run.length, run.zero};
  }
  return {offset, extent.length, extent.kind == Extent::Kind::zero};
}

Location BlockContainer::Disk::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const Extent extent = owner_.extent_at(offset, length);
  if (extent.kind != Extent::Kind::data) return {nullptr, 0, extent.length};
  return extent.store->locate(extent.at, extent.length);
}

// Of this image alone: blocks that can be written where they are, or such that have no place.
Extent BlockContainer::Disk::own_extent(std::uint64_t offset, std::uint64_t length) {
  Extent extent = owner_.find(offset, length);
  const bool has_place = extent.kind == Extent::Kind::data;
  while (extent.length < length) {
    const Extent next = owner_.find(offset + extent.length, length - extent.length);
    const bool joins = has_place ? next.store == extent.store && next.shared == extent.shared &&
                                       next.at == extent.at + extent.length
                                 : true;
    if ((next.kind == Extent::Kind::data) != has_place || !joins) break;
    extent.length += next.length;
  }
  return extent;
}

std::uint64_t BlockContainer::Disk::share_unreferenced(std::uint64_t offset,
                                                       const Location& source) {
  check_range(offset, source.length);
  Extent extent = own_extent(offset, source.length);
  const std::uint64_t whole = round_down(extent.length, owner_.block_size());
  if (extent.kind != Extent::Kind::data && whole != 0 && offset % owner_.block_size() == 0 &&
      source.store->may_share()) {
    owner_.allocate(offset, whole);
    extent = own_extent(offset, whole);
  }
  if (extent.kind != Extent::Kind::data || extent.shared) return 0;
  return extent.store->share_unreferenced(extent.at, {source.store, source.at, extent.length});
}

void BlockContainer::Disk::put(std::uint64_t offset, ConstByteSpan data, bool unreferenced) {
  check_range(offset, data.size());
  while (!data.empty()) {
    Extent extent = owner_.find(offset, data.size());
    // New blocks side by side are written, and noted in their table, at once.
    while (extent.kind != Extent::Kind::data && extent.length < data.size()) {
      const Extent next = owner_.find(offset + extent.length, data.size() - extent.length);
      if (next.kind != extent.kind) break;
      extent.length += next.length;
    }
    std::size_t done = extent.length;
    if (extent.kind == Extent::Kind::data && extent.shared) {
      done = put_in_new_blocks(offset, data.first(extent.length), /*zero_now=*/false);
    } else if (extent.kind == Extent::Kind::data) {
      const ConstByteSpan part = data.first(extent.length);
      unreferenced ? extent.store->write_unreferenced(extent.at, part)
                   : extent.store->write(extent.at, part);
    } else {
      const bool zero_now = extent.kind == Extent::Kind::zero ||
                            (extent.kind == Extent::Kind::below && !owner_.below_);
      done = put_in_new_blocks(offset, data.first(extent.length), zero_now);
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
  const Extent whole = owner_.find(start, length);
  if (zero_now && whole.kind != Extent::Kind::data && whole.length == length) {
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
      const Range run = map(offset, step);
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
