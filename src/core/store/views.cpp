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

Run WindowStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  Run run = below_.map(start_ + offset, length);
  run.offset = offset;
  return run;
}

Location WindowStore::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  return below_.locate(start_ + offset, length);
}

void WindowStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  below_.discard(start_ + offset, length);
}

void WindowStore::resize(std::uint64_t) { ensure(false, "a window is not resized"); }

template <class Visit>
void PartsStore::for_each_part(std::uint64_t offset, std::uint64_t length, Visit visit) const {
  check_range(offset, length);
  for (std::uint64_t done = 0; done < length;) {
    const Part part = part_at(offset + done);
    const std::uint64_t step = std::min(length - done, part.length);
    visit(*part.below, part.start, done, step);
    done += step;
  }
}

void PartsStore::read(std::uint64_t offset, ByteSpan out) {
  for_each_part(offset, out.size(), [&](Store& below, auto at, auto done, auto step) {
    below.read(at, out.subspan(done, step));
  });
}

void PartsStore::write(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write(at, data.subspan(done, step));
  });
}

void PartsStore::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write_unreferenced(at, data.subspan(done, step));
  });
}

Location PartsStore::locate(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const Part part = part_at(offset);
  return part.below->locate(part.start, std::min(length, part.length));
}

void PartsStore::discard(std::uint64_t offset, std::uint64_t length) {
  for_each_part(offset, length,
                [&](Store& below, auto at, auto, auto step) { below.discard(at, step); });
}

void PartsStore::resize(std::uint64_t) { ensure(false, "a store of parts is not resized"); }

JoinStore::JoinStore(std::vector<Piece> pieces, std::string name)
    : PartsStore(std::move(name)), pieces_(std::move(pieces)) {
  for (const Piece& piece : pieces_) {
    piece.below->check_range(piece.start, piece.length);
    starts_.push_back(size_);
    size_ = checked_add(size_, piece.length);
  }
}

JoinStore::JoinStore(std::vector<std::unique_ptr<Store>> parts, std::string name)
    : PartsStore(std::move(name)), parts_(std::move(parts)) {
  for (const auto& part : parts_) {
    pieces_.push_back({part.get(), 0, part->size()});
    starts_.push_back(size_);
    size_ = checked_add(size_, part->size());
  }
}

PartsStore::Part JoinStore::part_at(std::uint64_t offset) const {
  const auto after = std::upper_bound(starts_.begin(), starts_.end(), offset);
  const auto i = static_cast<std::size_t>(after - starts_.begin()) - 1;
  const std::uint64_t inside = offset - starts_[i];
  return {pieces_[i].below, pieces_[i].start + inside, pieces_[i].length - inside};
}

Run JoinStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const Part part = part_at(offset);
  Run run = part.below->map(part.start, std::min(length, part.length));
  run.offset = offset;
  return run;
}

void JoinStore::flush() {
  for (const Piece& piece : pieces_) piece.below->flush();
}

StripeStore::StripeStore(std::vector<std::unique_ptr<Store>> stripes, std::uint64_t chunk,
                         std::string name)
    : PartsStore(std::move(name)), stripes_(std::move(stripes)), chunk_(chunk) {
  ensure(!stripes_.empty() && chunk_ != 0, "a striped store has stripes and chunks");
  for (const auto& stripe : stripes_)
    ensure(stripe->size() == stripes_.front()->size() && stripe->size() % chunk_ == 0,
           "stripes are of one size, in whole chunks");
  size_ = checked_mul(stripes_.front()->size(), stripes_.size());
}

PartsStore::Part StripeStore::part_at(std::uint64_t offset) const {
  const std::uint64_t chunk = offset / chunk_;
  const std::uint64_t inside = offset % chunk_;
  return {stripes_[chunk % stripes_.size()].get(), chunk / stripes_.size() * chunk_ + inside,
          chunk_ - inside};
}

Run StripeStore::map(std::uint64_t offset, std::uint64_t length) {
  // Enough at a time; the caller asks again for what follows.
  constexpr std::uint64_t most_chunks = 1024;
  length = std::min(length, most_chunks * chunk_);
  Run run{offset, 0, true};
  bool first = true;
  bool over = false;
  for_each_part(offset, length, [&](Store& below, auto at, auto, auto step) {
    if (over) return;
    const Run part = below.map(at, step);
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
