#include "core/base/checksum.h"
#include "core/store/stage.h"

// What the seal will change, for who seals it and who proves it.
namespace jh {

// Calls visit(at, length, old, page) for each held page inside the image; `old` is empty where
// nothing was.
template <class Visit>
void Stage::held_pages(const Visit& visit) {
  constexpr std::uint64_t most = 64;
  Buffer old;  // pages side by side are read together, those in holes not at all
  std::uint64_t old_from = 0;
  Range run;
  for (auto held = pages_.begin(); held != pages_.end(); ++held) {
    const std::uint64_t at = held->first * page_size;
    if (at >= size_) break;
    const std::size_t length = std::min(page_size, size_ - at);
    if (at >= run.offset + run.length) run = direct_.map(at, size_ - at);
    const std::uint64_t run_end = run.offset + run.length;
    if (run.zero && at + length <= run_end) {
      visit(at, length, ConstByteSpan(), held->second);
      continue;
    }
    if (at < old_from || at + length > old_from + old.size()) {
      std::uint64_t pages = 1;
      for (auto next = std::next(held);
           pages < most && next != pages_.end() && next->first == held->first + pages &&
           (next->first + 1) * page_size <= run_end;
           ++next)
        ++pages;
      old_from = at;
      read_old_pages(at, std::min(pages * page_size, size_ - at), old);
    }
    visit(at, length, ConstByteSpan(old).subspan(at - old_from, length), held->second);
  }
}

// The proof asks for them, and then the seal; what is held is not written to in between.
void Stage::read_old_pages(std::uint64_t at, std::uint64_t length, Buffer& out) {
  constexpr std::uint64_t most = 8U << 20;
  if (const auto known = old_pages_.find(at);
      known != old_pages_.end() && known->second.size() == length) {
    out = known->second;
    return;
  }
  out.resize(length);
  direct_.read(at, out);
  if (old_kept_ + length > most) return;
  if (old_pages_.try_emplace(at, out).second) old_kept_ += length;
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
  const Buffer zeros(page_size);
  Buffer old_run;  // empty, or shorter than the run: zeros from there on
  Buffer new_run;  // empty where it is spilled: nobody asks for the bytes then
  Change run;
  const auto emit = [&] {
    if (run.length == 0) return;
    if (!old_run.empty()) old_run.resize(run.length);
    run.old = old_run;
    run.fresh = new_run;
    run.crc = ~run.crc;
    visit(run);
    old_run.clear();
    new_run.clear();
    run.length = 0;
  };
  Page unparked;
  held_pages([&](std::uint64_t at, std::size_t length, ConstByteSpan old, const Held& page) {
    if (!page->bytes) read_page(*page, unparked, 0);
    const ConstByteSpan fresh = ConstByteSpan(page->bytes ? *page->bytes : unparked).first(length);
    const ConstByteSpan was = old.empty() ? ConstByteSpan(zeros).first(length) : old;
    if (std::equal(was.begin(), was.end(), fresh.begin())) return;
    const bool joins =
        run.length != 0 && run.offset + run.length == at && run.length < most &&
        (page->spilled == 0 ? run.spilled == 0
                            : run.spilled != 0 && run.spilled + run.length == page->spilled);
    if (!joins) {
      emit();
      run = {};
      run.offset = at;
      run.spilled = page->spilled;  // which a visit may have told just now
      run.crc = ~0U;
    }
    if (!old.empty()) {
      old_run.resize(run.length);
      old_run.insert(old_run.end(), old.begin(), old.end());
    }
    if (run.spilled == 0)
      new_run.insert(new_run.end(), fresh.begin(), fresh.end());
    else
      run.crc = crc32c_raw(run.crc, fresh);
    run.repeated |= page.use_count() > 1;
    run.length += length;
  });
  emit();
}

void Stage::note_parked(const Change& change, std::uint64_t at) {
  for (std::uint64_t done = 0; done + page_size <= change.length; done += page_size)
    if (const auto page = pages_.find((change.offset + done) / page_size); page != pages_.end())
      page->second->spilled = at + done;
}

void Stage::for_each_change(const std::function<void(const Change&)>& visit) {
  changed_pages(visit);
  const Buffer zeros(ledger::max_payload / 2);
  zeroed_data([&](std::uint64_t at, ConstByteSpan old) {
    visit({at, old.size(), old, ConstByteSpan(zeros).first(old.size()), 0, 0, false});
  });
}

// What was let go and is there still.
void Stage::zeroed_data(const std::function<void(std::uint64_t, ConstByteSpan)>& visit) {
  constexpr std::uint64_t most = ledger::max_payload / 2;
  for (const auto& [from, to] : zeroed_) {
    const std::uint64_t end = std::min({to, size_, base_.size()});
    for (std::uint64_t at = from; at < end;) {
      const Range run = base_.map(at, end - at);
      const std::uint64_t step = run.zero ? run.length : std::min(run.length, most);
      if (!run.zero) visit(at, read_buffer(base_, at, step));
      at += step;
    }
  }
}

}  // namespace jh
