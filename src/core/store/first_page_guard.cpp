#include "core/store/first_page_guard.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"

namespace jh {

using ledger::sector_size;

namespace {

constexpr std::string_view closed_text =
    "juneheath: this image is in the middle of a change.\n"
    "Nobody can use it before it is finished or dropped, with:\n"
    "  juneheath recover IMAGE\n";

// Every sector says which change it is of, and which sector it is. None has the bytes at its end by
// which a computer takes a first sector for one to start from.
Buffer closed_front(const Uuid& change, std::size_t length) {
  Buffer front(length);
  for (std::size_t at = 0; at < length; at += sector_size) {
    const std::string text =
        std::string(closed_text) +
        fmt::format("change {}, sector {}\n", uuid_text(change), at / sector_size);
    const std::size_t count =
        std::min({text.size(), static_cast<std::size_t>(sector_size), length - at});
    std::copy_n(text.begin(), count, front.begin() + static_cast<std::ptrdiff_t>(at));
  }
  return front;
}

ConstByteSpan sector_of(const Buffer& page, std::size_t at) {
  return ConstByteSpan(page).subspan(at, std::min<std::size_t>(sector_size, page.size() - at));
}

bool same(ConstByteSpan a, ConstByteSpan b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end());
}

}  // namespace

bool has_closed_first_page(Store& image) {
  for (std::uint64_t at = 0; at < std::min(ledger::block_size, image.size()); at += sector_size)
    if (holds(image, at, closed_text)) return true;
  return false;
}

FirstPageGuard::FirstPageGuard(Store& image, const Uuid& change, Buffer page)
    : image_(image),
      before_(std::move(page)),
      page_(before_),
      closed_(closed_front(change, before_.size())) {}

bool FirstPageGuard::is_closed(std::uint64_t at, ConstByteSpan sector) const {
  return same(sector, sector_of(closed_, at));
}

void FirstPageGuard::check_text() {
  constexpr std::size_t few = 16;
  if (image_.size() < closed_.size()) return;
  const Buffer now = read_buffer(image_, 0, closed_.size());
  for (std::size_t at = 0; at < now.size(); at += sector_size) {
    const ConstByteSpan sector = sector_of(now, at);
    const ConstByteSpan text = sector_of(closed_, at);
    std::vector<std::size_t> different;
    for (std::size_t i = 0; i < text.size(); ++i)
      if (sector[i] != text[i]) different.push_back(i);
    if (different.empty() || different.size() > few || same(sector, sector_of(page_, at))) continue;
    const std::size_t first = different.front();
    refuse(
        fmt::format("byte {} was written by somebody else, in the text that says that a change "
                    "is going on",
                    at + first),
        name(),
        fmt::format("nothing was written; put 0x{:02x} back there, then run again", text[first]));
  }
}

FirstPageGuard::Sectors FirstPageGuard::sectors() {
  Sectors found;
  if (image_.size() < closed_.size()) return {0, 0, 1};  // cut off by somebody
  const Buffer now = read_buffer(image_, 0, closed_.size());
  for (std::size_t at = 0; at < now.size(); at += sector_size) {
    const ConstByteSpan sector = sector_of(now, at);
    if (is_closed(at, sector))
      ++found.closed;
    else if (same(sector, sector_of(before_, at)))
      ++found.as_before;
    else
      ++found.other;
  }
  return found;
}

void FirstPageGuard::close() {
  if (closed_.empty()) return;
  image_.write(0, closed_);
  image_.flush();
}

void FirstPageGuard::open() {
  if (image_.size() < closed_.size()) return;
  const Buffer now = read_buffer(image_, 0, closed_.size());
  bool any = false;
  for (std::size_t at = 0; at < now.size(); at += sector_size) {
    if (!is_closed(at, sector_of(now, at))) continue;
    image_.write(at, sector_of(page_, at));
    any = true;
  }
  if (any) image_.flush();
}

void FirstPageGuard::read(std::uint64_t offset, ByteSpan out) {
  image_.read(offset, out);
  for (std::size_t at = round_down(offset, sector_size);
       at < std::min<std::uint64_t>(offset + out.size(), closed_.size()); at += sector_size) {
    const ConstByteSpan open = sector_of(page_, at);
    if (!is_closed(at, read_buffer(image_, at, open.size()))) continue;
    const std::uint64_t from = std::max<std::uint64_t>(at, offset);
    const std::uint64_t to = std::min<std::uint64_t>(at + open.size(), offset + out.size());
    std::copy(open.begin() + static_cast<std::ptrdiff_t>(from - at),
              open.begin() + static_cast<std::ptrdiff_t>(to - at),
              out.begin() + static_cast<std::ptrdiff_t>(from - offset));
  }
}

void FirstPageGuard::write(std::uint64_t offset, ConstByteSpan data) {
  if (!remember_only_) check_range(offset, data.size());
  if (offset < page_.size()) {
    const std::size_t step = std::min<std::size_t>(data.size(), page_.size() - offset);
    std::copy_n(data.begin(), step, page_.begin() + static_cast<std::ptrdiff_t>(offset));
    offset += step;
    data = data.subspan(step);
  }
  if (!data.empty() && !remember_only_) image_.write(offset, data);
}

Range FirstPageGuard::map(std::uint64_t offset, std::uint64_t length) {
  if (offset >= closed_.size()) return image_.map(offset, length);
  check_range(offset, length);
  return {offset, std::min<std::uint64_t>(length, closed_.size() - offset), false};
}

Location FirstPageGuard::locate(std::uint64_t offset, std::uint64_t length) {
  if (remember_only_) return {this, offset, length};
  if (offset >= closed_.size()) return image_.locate(offset, length);
  return {this, offset, std::min<std::uint64_t>(length, closed_.size() - offset)};
}

void FirstPageGuard::discard(std::uint64_t offset, std::uint64_t length) {
  if (!remember_only_) check_range(offset, length);
  if (offset < page_.size()) {
    const std::size_t step = std::min<std::size_t>(length, page_.size() - offset);
    std::fill_n(page_.begin() + static_cast<std::ptrdiff_t>(offset), step, std::uint8_t{0});
    offset += step;
    length -= step;
  }
  if (length != 0 && !remember_only_) image_.discard(offset, length);
}

void FirstPageGuard::flush() {
  if (!remember_only_) image_.flush();
}

void FirstPageGuard::resize(std::uint64_t new_size) {
  if (!remember_only_) image_.resize(new_size);
}

void FirstPageGuards::note(Ledger& ledger, std::uint32_t image, Store& store,
                           std::uint64_t new_size) {
  const std::uint64_t length = std::min({ledger::block_size, store.size(), new_size});
  ledger.put_front(image, read_buffer(store, 0, length));
}

FirstPageGuards::FirstPageGuards(Ledger& ledger, const std::vector<Store*>& images)
    : stores_(images) {
  std::vector<Buffer> pages = ledger.fronts();
  ensure(pages.size() == images.size(), "every image of the ledger is open");
  for (std::size_t i = 0; i < images.size(); ++i) {
    fronts_.push_back(
        std::make_unique<FirstPageGuard>(*images[i], ledger.id(), std::move(pages[i])));
    stores_[i] = fronts_.back().get();
  }
}

bool FirstPageGuards::all_closed() {
  return std::all_of(fronts_.begin(), fronts_.end(), [](const auto& front) {
    const FirstPageGuard::Sectors found = front->sectors();
    return found.as_before == 0 && found.other == 0;
  });
}

void FirstPageGuards::check_untouched() {
  bool any_closed = false;
  const FirstPageGuard* touched = nullptr;
  for (const auto& front : fronts_) {
    const FirstPageGuard::Sectors found = front->sectors();
    any_closed = any_closed || found.closed != 0;
    if (found.other != 0) touched = front.get();
  }
  if (any_closed && touched != nullptr)
    refuse(
        "the first page was written since the change by somebody else, and the change may be "
        "there in part",
        touched->name(),
        "nothing was written. Put the image back that the change was made on, or as it was "
        "before the change");
}

void FirstPageGuards::check_texts() {
  for (const auto& front : fronts_) front->check_text();
}

void FirstPageGuards::close_all() {
  for (const auto& front : fronts_) front->close();
}

void FirstPageGuards::open_all() {
  for (const auto& front : fronts_) front->open();
}

void FirstPageGuards::remember_only() {
  for (const auto& front : fronts_) front->remember_only();
}

}  // namespace jh
