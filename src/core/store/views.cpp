#include "core/store/views.h"

#include <utility>

namespace jh {

WindowStore::WindowStore(Store& below, std::uint64_t start, std::uint64_t length, std::string name)
    : below_(below), start_(start), length_(length), name_(std::move(name)) {
  below.check_range(start, length);
}

void WindowStore::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  below_.read(start_ + offset, out);
}

void WindowStore::write(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  below_.write(start_ + offset, data);
}

void WindowStore::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  below_.write_unreferenced(start_ + offset, data);
}

Range WindowStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  Range run = below_.map(start_ + offset, length);
  run.offset = offset;
  return run;
}

Location WindowStore::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  return below_.locate(start_ + offset, length);
}

std::uint64_t WindowStore::share_unreferenced(std::uint64_t offset, const Location& source) {
  check_range(offset, source.length);
  return below_.share_unreferenced(start_ + offset, source);
}

void WindowStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  below_.discard(start_ + offset, length);
}

void WindowStore::resize(std::uint64_t) { ensure(false, "a window is not resized"); }

template <class Visit>
void ExtentStore::for_each_extent(std::uint64_t offset, std::uint64_t length, Visit visit) const {
  check_range(offset, length);
  for (std::uint64_t done = 0; done < length;) {
    const Extent part = extent_at(offset + done);
    const std::uint64_t step = std::min(length - done, part.length);
    visit(*part.below, part.start, done, step);
    done += step;
  }
}

void ExtentStore::read(std::uint64_t offset, ByteSpan out) {
  for_each_extent(offset, out.size(), [&](Store& below, auto at, auto done, auto step) {
    below.read(at, out.subspan(done, step));
  });
}

void ExtentStore::write(std::uint64_t offset, ConstByteSpan data) {
  for_each_extent(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write(at, data.subspan(done, step));
  });
}

void ExtentStore::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  for_each_extent(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write_unreferenced(at, data.subspan(done, step));
  });
}

Location ExtentStore::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const Extent part = extent_at(offset);
  return part.below->locate(part.start, std::min(length, part.length));
}

std::uint64_t ExtentStore::share_unreferenced(std::uint64_t offset, const Location& source) {
  check_range(offset, source.length);
  const Extent part = extent_at(offset);
  return part.below->share_unreferenced(
      part.start, {source.store, source.at, std::min(source.length, part.length)});
}

void ExtentStore::discard(std::uint64_t offset, std::uint64_t length) {
  for_each_extent(offset, length,
                  [&](Store& below, auto at, auto, auto step) { below.discard(at, step); });
}

void ExtentStore::resize(std::uint64_t) { ensure(false, "a store of parts is not resized"); }

JoinStore::JoinStore(std::vector<Extent> pieces, std::string name)
    : ExtentStore(std::move(name)), extents_(std::move(pieces)) {
  for (const Extent& piece : extents_) {
    piece.below->check_range(piece.start, piece.length);
    starts_.push_back(size_);
    size_ = checked_add(size_, piece.length);
  }
}

JoinStore::JoinStore(std::vector<std::unique_ptr<Store>> parts, std::string name)
    : ExtentStore(std::move(name)), parts_(std::move(parts)) {
  for (const auto& part : parts_) {
    extents_.push_back({part.get(), 0, part->size()});
    starts_.push_back(size_);
    size_ = checked_add(size_, part->size());
  }
}

ExtentStore::Extent JoinStore::extent_at(std::uint64_t offset) const {
  const auto after = std::upper_bound(starts_.begin(), starts_.end(), offset);
  const auto i = static_cast<std::size_t>(after - starts_.begin()) - 1;
  const std::uint64_t inside = offset - starts_[i];
  return {extents_[i].below, extents_[i].start + inside, extents_[i].length - inside};
}

Range JoinStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const Extent part = extent_at(offset);
  Range run = part.below->map(part.start, std::min(length, part.length));
  run.offset = offset;
  return run;
}

void JoinStore::flush() {
  for (const Extent& piece : extents_) piece.below->flush();
}

StripeStore::StripeStore(std::vector<std::unique_ptr<Store>> stripes, std::uint64_t chunk,
                         std::string name)
    : ExtentStore(std::move(name)), stripes_(std::move(stripes)), chunk_(chunk) {
  ensure(!stripes_.empty() && chunk_ != 0, "a striped store has stripes and chunks");
  for (const auto& stripe : stripes_)
    ensure(stripe->size() == stripes_.front()->size() && stripe->size() % chunk_ == 0,
           "stripes are of one size, in whole chunks");
  size_ = checked_mul(stripes_.front()->size(), stripes_.size());
}

ExtentStore::Extent StripeStore::extent_at(std::uint64_t offset) const {
  const std::uint64_t chunk = offset / chunk_;
  const std::uint64_t inside = offset % chunk_;
  return {stripes_[chunk % stripes_.size()].get(), chunk / stripes_.size() * chunk_ + inside,
          chunk_ - inside};
}

Range StripeStore::map(std::uint64_t offset, std::uint64_t length) {
  // Enough at a time; the caller asks again for what follows.
  constexpr std::uint64_t most_chunks = 1024;
  length = std::min(length, most_chunks * chunk_);
  Range run{offset, 0, true};
  bool first = true;
  bool over = false;
  for_each_extent(offset, length, [&](Store& below, auto at, auto, auto step) {
    if (over) return;
    const Range part = below.map(at, step);
    if (first) run.zero = part.zero;
    over = part.zero != run.zero || part.length != step;
    if (part.zero == run.zero) run.length += part.length;
    first = false;
  });
  return run;
}

void StripeStore::flush() {
  for (const auto& stripe : stripes_) stripe->flush();
}

}  // namespace jh
