#include "core/store/memory_store.h"

namespace jh {
namespace {

const MemoryStore::Page zero_page{};

// Calls visit(page number, offset in the page, offset in the request, length) for each page.
template <class Visit>
void for_each_page(std::uint64_t offset, std::uint64_t length, Visit visit) {
  std::uint64_t done = 0;
  while (done < length) {
    const std::uint64_t at = offset + done;
    const std::uint64_t in_page = at % MemoryStore::page_size;
    const std::uint64_t step = std::min(length - done, MemoryStore::page_size - in_page);
    visit(at / MemoryStore::page_size, in_page, done, step);
    done += step;
  }
}

}  // namespace

void MemoryStore::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  for_each_page(offset, out.size(), [&](auto number, auto in_page, auto done, auto step) {
    const auto page = pages_.find(number);
    const Page& from = page == pages_.end() ? zero_page : *page->second;
    std::memcpy(out.data() + done, from.data() + in_page, step);
  });
}

void MemoryStore::write(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  for_each_page(offset, data.size(), [&](auto number, auto in_page, auto done, auto step) {
    auto& slot = pages_[number];
    auto fresh = std::make_shared<Page>(slot ? *slot : zero_page);
    std::memcpy(fresh->data() + in_page, data.data() + done, step);
    slot = std::move(fresh);
  });
}

Range MemoryStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  const std::uint64_t end = offset + length;
  auto page = pages_.lower_bound(offset / page_size);
  if (page == pages_.end() || page->first * page_size >= end) return {offset, length, true};
  if (page->first * page_size > offset) return {offset, page->first * page_size - offset, true};
  std::uint64_t next = page->first;
  while (page != pages_.end() && page->first == next && next * page_size < end) ++page, ++next;
  return {offset, std::min(end, next * page_size) - offset, false};
}

std::uint64_t MemoryStore::share(std::uint64_t offset, Store& from, std::uint64_t source,
                                 std::uint64_t length) {
  check_range(offset, length);
  from.check_range(source, length);
  const auto* other = dynamic_cast<MemoryStore*>(&from);
  if (other == nullptr || offset % page_size != 0 || source % page_size != 0) return 0;
  length = round_down(length, page_size);
  discard(offset, length);
  for (std::uint64_t done = 0; done < length; done += page_size) {
    const auto page = other->pages_.find((source + done) / page_size);
    if (page != other->pages_.end()) pages_[(offset + done) / page_size] = page->second;
  }
  return length;
}

void MemoryStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  const std::uint64_t first_whole = ceil_div(offset, page_size);
  const std::uint64_t end_whole = (offset + length) / page_size;
  if (first_whole >= end_whole) {
    write(offset, Buffer(length));
    return;
  }
  write(offset, Buffer(first_whole * page_size - offset));
  write(end_whole * page_size, Buffer(offset + length - end_whole * page_size));
  pages_.erase(pages_.lower_bound(first_whole), pages_.lower_bound(end_whole));
}

void MemoryStore::resize(std::uint64_t new_size) {
  if (new_size < size_) discard(new_size, size_ - new_size);
  size_ = new_size;
}

void MemoryStore::assign(const MemoryStore& other) {
  size_ = other.size_;
  pages_ = other.pages_;
}

bool MemoryStore::same_content(const MemoryStore& other) const {
  if (size_ != other.size_) return false;
  const auto zero_or_same = [](const Pages& a, const Pages& b) {
    return std::all_of(a.begin(), a.end(), [&](const auto& entry) {
      const auto twin = b.find(entry.first);
      const Page& page = twin == b.end() ? zero_page : *twin->second;
      return entry.second.get() == &page || *entry.second == page;
    });
  };
  return zero_or_same(pages_, other.pages_) && zero_or_same(other.pages_, pages_);
}

}  // namespace jh
