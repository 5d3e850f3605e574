#include "core/store/stage.h"

// What the seal will change, for who seals it and who proves it.
namespace jh {

// Calls visit(at, length, old, page) for each held page inside the image; `old` is empty where
// nothing was.
template <class Visit>
void Stage::held_pages(const Visit& visit) {
  Page old;
  Run hole;  // reading one page by page costs the host memory and time
  for (const auto& held : pages_) {
    const std::uint64_t at = held.first * page_size;
    if (at >= size_) break;
    const std::size_t length = std::min(page_size, size_ - at);
    if (at >= hole.offset + hole.length) hole = direct_.map(at, size_ - at);
    const bool nothing_there = hole.zero && at + length <= hole.offset + hole.length;
    if (!nothing_there) {
      direct_.read(at, old);
      hole = {at, length, false};
    }
    visit(at, length, ConstByteSpan(old).first(nothing_there ? 0 : length), held.second);
  }
}

Ranges Stage::changed_sectors() {
  constexpr std::size_t unit = 512;
  const Buffer zeros(page_size);
  Ranges ranges;
  // Of contents that many pages have: a bit for each sector that is not zero.
  std::unordered_map<const Content*, std::uint32_t> over_nothing;
  Page unparked;
  const auto sectors = [&](const Held& page, ConstByteSpan old, std::size_t length) {
    if (!page->bytes) read_page(*page, unparked, 0);
    const Page& fresh = page->bytes ? *page->bytes : unparked;
    std::uint32_t bits = 0;
    for (std::size_t i = 0; i < length; i += unit)
      if (std::memcmp(&old[i], &fresh[i], std::min(unit, length - i)) != 0) bits |= 1U << i / unit;
    return bits;
  };
  held_pages([&](std::uint64_t at, std::size_t length, ConstByteSpan old, const Held& page) {
    std::uint32_t bits = 0;
    if (!old.empty() || length != page_size) {
      bits = sectors(page, old.empty() ? ConstByteSpan(zeros) : old, length);
    } else {
      const auto [known, fresh] = over_nothing.try_emplace(page.get());
      if (fresh) known->second = sectors(page, zeros, length);
      bits = known->second;
    }
    for (std::size_t i = 0; i * unit < length; ++i) {
      const std::size_t first = i;
      while (i * unit < length && (bits >> i & 1) != 0) ++i;
      if (i != first)
        add_range(ranges, at + first * unit, at + std::min<std::uint64_t>(i * unit, length));
    }
  });
  zeroed_data([&](std::uint64_t at, ConstByteSpan old) {
    for (std::size_t i = 0; i < old.size(); i += unit) {
      const std::size_t length = std::min(unit, old.size() - i);
      if (!all_zero(old.subspan(i, length))) add_range(ranges, at + i, at + i + length);
    }
  });
  for_each_direct(
      [&](std::uint64_t at, std::uint64_t length) { add_range(ranges, at, at + length); });
  return ranges;
}

void Stage::changed_pages(const std::function<void(const Change&)>& visit) {
  constexpr std::size_t most = ledger::max_payload / 2;
  const Buffer zeros(most);
  Buffer old_run;  // shorter than new_run: zeros from there on
  Buffer new_run;
  std::uint64_t start = 0;
  std::uint64_t parked = 0;
  const auto emit = [&] {
    if (!old_run.empty()) old_run.resize(new_run.size());
    const ConstByteSpan old = old_run.empty() ? ConstByteSpan(zeros) : ConstByteSpan(old_run);
    if (!new_run.empty()) visit({start, old.first(new_run.size()), new_run, parked});
    old_run.clear();
    new_run.clear();
  };
  Page unparked;
  held_pages([&](std::uint64_t at, std::size_t length, ConstByteSpan old, const Held& page) {
    if (!page->bytes) read_page(*page, unparked, 0);
    const ConstByteSpan fresh = ConstByteSpan(page->bytes ? *page->bytes : unparked).first(length);
    const ConstByteSpan was = old.empty() ? ConstByteSpan(zeros).first(length) : old;
    if (std::equal(was.begin(), was.end(), fresh.begin())) return;
    const bool joins =
        !new_run.empty() && start + new_run.size() == at && new_run.size() < most &&
        (page->parked == 0 ? parked == 0 : parked != 0 && parked + new_run.size() == page->parked);
    if (!joins) {
      emit();
      start = at;
      parked = page->parked;  // which a visit may have told just now
    }
    if (!old.empty()) {
      old_run.resize(new_run.size());
      old_run.insert(old_run.end(), old.begin(), old.end());
    }
    new_run.insert(new_run.end(), fresh.begin(), fresh.end());
  });
  emit();
}

void Stage::note_parked(const Change& change, std::uint64_t at) {
  for (std::uint64_t done = 0; done + page_size <= change.fresh.size(); done += page_size)
    if (const auto page = pages_.find((change.offset + done) / page_size); page != pages_.end())
      page->second->parked = at + done;
}

void Stage::for_each_change(const std::function<void(const Change&)>& visit) {
  changed_pages(visit);
  const Buffer zeros(ledger::max_payload / 2);
  zeroed_data([&](std::uint64_t at, ConstByteSpan old) {
    visit({at, old, ConstByteSpan(zeros).first(old.size()), 0});
  });
}

// What was let go and is there still.
void Stage::zeroed_data(const std::function<void(std::uint64_t, ConstByteSpan)>& visit) {
  constexpr std::uint64_t most = ledger::max_payload / 2;
  for (const auto& [from, to] : zeroed_) {
    const std::uint64_t end = std::min({to, size_, base_.size()});
    for (std::uint64_t at = from; at < end;) {
      const Run run = base_.map(at, end - at);
      const std::uint64_t step = run.zero ? run.length : std::min(run.length, most);
      if (!run.zero) visit(at, read_buffer(base_, at, step));
      at += step;
    }
  }
}

}  // namespace jh
