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

void WindowStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  below_.discard(start_ + offset, length);
}

void WindowStore::resize(std::uint64_t) { ensure(false, "a window is not resized"); }

JoinStore::JoinStore(std::vector<Piece> pieces, std::string name)
    : pieces_(std::move(pieces)), name_(std::move(name)) {
  for (const Piece& piece : pieces_) {
    piece.below->check_range(piece.start, piece.length);
    starts_.push_back(size_);
    size_ = checked_add(size_, piece.length);
  }
}

namespace {

std::vector<JoinStore::Piece> whole(const std::vector<std::unique_ptr<Store>>& parts) {
  std::vector<JoinStore::Piece> pieces;
  pieces.reserve(parts.size());
  for (const auto& part : parts) pieces.push_back({part.get(), 0, part->size()});
  return pieces;
}

}  // namespace

JoinStore::JoinStore(std::vector<std::unique_ptr<Store>> parts, std::string name)
    : JoinStore(whole(parts), std::move(name)) {
  parts_ = std::move(parts);
}

std::size_t JoinStore::piece_at(std::uint64_t offset) const {
  const auto after = std::upper_bound(starts_.begin(), starts_.end(), offset);
  return static_cast<std::size_t>(after - starts_.begin()) - 1;
}

template <class Visit>
void JoinStore::for_each_part(std::uint64_t offset, std::uint64_t length, Visit visit) {
  check_range(offset, length);
  std::uint64_t done = 0;
  for (std::size_t i = length == 0 ? 0 : piece_at(offset); done < length; ++i) {
    const std::uint64_t inside = offset + done - starts_[i];
    const std::uint64_t step = std::min(length - done, pieces_[i].length - inside);
    visit(*pieces_[i].below, pieces_[i].start + inside, done, step);
    done += step;
  }
}

void JoinStore::read(std::uint64_t offset, ByteSpan out) {
  for_each_part(offset, out.size(), [&](Store& below, auto at, auto done, auto step) {
    below.read(at, out.subspan(done, step));
  });
}

void JoinStore::write(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write(at, data.subspan(done, step));
  });
}

void JoinStore::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write_unreferenced(at, data.subspan(done, step));
  });
}

Run JoinStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const std::size_t i = piece_at(offset);
  const std::uint64_t inside = offset - starts_[i];
  Run run = pieces_[i].below->map(pieces_[i].start + inside,
                                  std::min(length, pieces_[i].length - inside));
  run.offset = offset;
  return run;
}

void JoinStore::discard(std::uint64_t offset, std::uint64_t length) {
  for_each_part(offset, length,
                [&](Store& below, auto at, auto, auto step) { below.discard(at, step); });
}

void JoinStore::flush() {
  for (const Piece& piece : pieces_) piece.below->flush();
}

void JoinStore::resize(std::uint64_t) { ensure(false, "a join is not resized"); }

StripeStore::StripeStore(std::vector<std::unique_ptr<Store>> stripes, std::uint64_t chunk,
                         std::string name)
    : stripes_(std::move(stripes)), chunk_(chunk), name_(std::move(name)) {
  ensure(!stripes_.empty() && chunk_ != 0, "a striped store has stripes and chunks");
  for (const auto& stripe : stripes_)
    ensure(stripe->size() == stripes_.front()->size() && stripe->size() % chunk_ == 0,
           "stripes are of one size, in whole chunks");
  size_ = checked_mul(stripes_.front()->size(), stripes_.size());
}

template <class Visit>
void StripeStore::for_each_part(std::uint64_t offset, std::uint64_t length, Visit visit) {
  check_range(offset, length);
  for (std::uint64_t done = 0; done < length;) {
    const std::uint64_t chunk = (offset + done) / chunk_;
    const std::uint64_t inside = (offset + done) % chunk_;
    const std::uint64_t step = std::min(length - done, chunk_ - inside);
    visit(*stripes_[chunk % stripes_.size()], chunk / stripes_.size() * chunk_ + inside, done,
          step);
    done += step;
  }
}

void StripeStore::read(std::uint64_t offset, ByteSpan out) {
  for_each_part(offset, out.size(), [&](Store& below, auto at, auto done, auto step) {
    below.read(at, out.subspan(done, step));
  });
}

void StripeStore::write(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write(at, data.subspan(done, step));
  });
}

void StripeStore::write_unreferenced(std::uint64_t offset, ConstByteSpan data) {
  for_each_part(offset, data.size(), [&](Store& below, auto at, auto done, auto step) {
    below.write_unreferenced(at, data.subspan(done, step));
  });
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

void StripeStore::discard(std::uint64_t offset, std::uint64_t length) {
  for_each_part(offset, length,
                [&](Store& below, auto at, auto, auto step) { below.discard(at, step); });
}

void StripeStore::flush() {
  for (const auto& stripe : stripes_) stripe->flush();
}

void StripeStore::resize(std::uint64_t) { ensure(false, "a striped store is not resized"); }

}  // namespace jh
