#include "core/store/ledger_check.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/base/moment.h"
#include "core/base/shell_word.h"

namespace jh {

using ledger::RecordKind;
using ledger::sector_size;

namespace {

// Bytes of the image; behind its end there are zeros.
Buffer read_padded(Store& image, std::uint64_t at, std::uint64_t length) {
  Buffer bytes(length);
  const std::uint64_t there = at >= image.size() ? 0 : std::min(length, image.size() - at);
  if (there != 0) image.read(at, ByteSpan(bytes).first(there));
  return bytes;
}

// Of bytes that are there; a range that reaches behind the image's end has none that fits.
std::optional<std::uint32_t> checksum_of(Store& image, std::uint64_t at, std::uint64_t length) {
  if (at > image.size() || length > image.size() - at) return std::nullopt;
  return crc32c_of(image, at, length);
}

// Old bytes that the ledger has of a stretch.
Buffer old_bytes(Ledger& ledger, std::uint64_t start, const LedgerRange& stretch,
                 std::uint64_t from, std::uint64_t length) {
  Buffer bytes(length);
  if (stretch.at != 0) ledger.read_back(stretch.at + (from - start), bytes);
  return bytes;
}

Buffer checksums_of(Ledger& ledger, std::uint64_t start, const LedgerRange& stretch,
                    std::uint64_t from, std::uint64_t length) {
  Buffer checksums(ceil_div(length, sector_size) * sizeof(Le32));
  ledger.read_back(stretch.at + (from - start) / sector_size * sizeof(Le32), checksums);
  return checksums;
}

bool sector_fits(const Buffer& bytes, const Buffer& checksums, std::uint64_t at) {
  const std::uint64_t length = std::min<std::uint64_t>(sector_size, bytes.size() - at);
  return crc32c(ConstByteSpan(bytes).subspan(at, length)) ==
         parse_as<Le32>(checksums, at / sector_size * sizeof(Le32)).value();
}

class Check {
 public:
  Check(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images,
        std::string verdict, Advice next)
      : ledger_(ledger),
        index_(index),
        images_(images),
        verdict_(std::move(verdict)),
        next_(std::move(next)) {
    ensure(images.size() == index.images.size(), "every image of the ledger is open");
  }

  [[noreturn]] void refuse_since(const std::string& what, const Store& image) const {
    throw Error(Status::refused, what, image.name(), next_).with_reason(Reason::written_since);
  }

  [[noreturn]] void written_since(const Store& image, std::uint64_t at) const {
    refuse_since(fmt::format("byte {} was written since the change of {}, by somebody else; {}", at,
                             minute_of(ledger_.created()), verdict_),
                 image);
  }

  void size_is(std::size_t i, std::uint64_t one, std::uint64_t other) const {
    const std::uint64_t size = images_[i]->size();
    if (size == one || size == other) return;
    const std::string expected =
        one == other ? fmt::format("{}", one) : fmt::format("{} or {}", one, other);
    refuse_since(fmt::format("the image is {} bytes long; the change of {} leaves it {}; {}", size,
                             minute_of(ledger_.created()), expected, verdict_),
                 *images_[i]);
  }

  // Every sealed byte is the new one, or where `or_old` also the old one.
  void sealed_bytes(bool or_old) {
    // An `after` record follows its `before` record.
    for_each_pair([&](const Ledger::Entry& old, const Ledger::Entry& entry) {
      Store& image = *images_[entry.image];
      // Zeros that stay zeros need not be there yet; such a range may be of any length.
      std::uint64_t length = entry.length;
      if (entry.zero && old.zero)
        length = std::min(length, image.size() - std::min(image.size(), entry.offset));
      for (std::uint64_t done = 0; done < length; done += ledger::max_payload) {
        const std::uint64_t step = std::min(ledger::max_payload, length - done);
        const Buffer now = read_padded(image, entry.offset + done, step);
        for (std::size_t i = 0; i < step; ++i) {
          const std::uint8_t fresh = entry.zero ? 0 : entry.payload[done + i];
          const std::uint8_t was = old.zero ? 0 : old.payload[done + i];
          if (now[i] != fresh && !(or_old && now[i] == was))
            written_since(image, entry.offset + done + i);
        }
      }
    });
  }

  // No page holds what the change, or its undo, would have made of it.
  void nothing_reached(bool undoing) {
    for_each_pair([&](const Ledger::Entry& old, const Ledger::Entry& entry) {
      if (entry.zero && old.zero) return;
      Store& image = *images_[entry.image];
      constexpr std::uint64_t page = 4096;
      for (std::uint64_t at = 0; at < entry.length; at += page) {
        const std::uint64_t size = std::min(page, entry.length - at);
        const Buffer fresh = part_of(entry, at, size);
        const Buffer was = part_of(old, at, size);
        const Buffer now = read_padded(image, entry.offset + at, size);
        if (fresh != was && now == (undoing ? was : fresh)) written_since(image, entry.offset + at);
      }
    });
  }

  // What was written directly in front of `end` is there.
  void direct_bytes(std::size_t i, std::uint64_t end) {
    for (const auto& [start, stretch] : index_.images[i].wrote)
      direct_stretch(i, start, stretch, end);
  }

  void direct_stretch(std::size_t i, std::uint64_t start, const LedgerRange& stretch,
                      std::uint64_t end) {
    if (start < end) {
      std::uint64_t stop = start + stretch.length;
      // A checksum stands for a whole sector; the forms that are written directly end at one.
      if (stop > end) stop = round_down(end, sector_size);
      if (stop > start && !has_sums(ledger_, *images_[i], start, stretch, start, stop - start))
        written_since(*images_[i], start);
    }
  }

  // What was moved is at its new place.
  void moved_bytes(const LedgerIndex::Moved& moved) {
    Store& now = *images_[moved.image];
    if (crc32c(read_padded(now, moved.at, moved.length)) != moved.crc) written_since(now, moved.at);
  }

  // From `from` to `to` there are zeros where none of `known` is.
  void rest_is_zero(std::size_t i, std::uint64_t from, std::uint64_t to, const Ranges& known) {
    Store& image = *images_[i];
    to = std::min(to, image.size());
    const auto zeros_until = [&](std::uint64_t end) {
      if (from < end && !range_is_zero(image, from, end - from)) written_since(image, from);
    };
    for_each_inside(known, from, std::max(from, to), [&](std::uint64_t start, std::uint64_t end) {
      zeros_until(start);
      from = end;
    });
    zeros_until(to);
  }

  // What lies behind the new end is what was there at the commit, until it is cut off.
  void tail_bytes(std::size_t i) {
    const LedgerIndex::Image& known = index_.images[i];
    Store& image = *images_[i];
    if (known.new_size >= image.size()) return;
    Ranges covered;
    const auto cover = [&](std::uint64_t start, std::uint64_t length) {
      add_range(covered, start, start + length);
    };
    for (const auto& [start, stretch] : known.wrote) cover(start, stretch.length);
    direct_bytes(i, UINT64_MAX);
    for (const auto& [start, moved] : known.moved) {
      cover(start, moved.length);
      if (crc32c(read_padded(image, start, moved.length)) != moved.crc) written_since(image, start);
    }
    for (const auto& [start, checksum] : known.checksums) {
      cover(start, checksum.length);
      if (checksum_of(image, start, checksum.length) != checksum.crc) written_since(image, start);
    }
    for (const auto& [start, stretch] : known.cut) {
      cover(start, stretch.length);
      // Behind the image's end there are zeros, and so there were.
      const std::uint64_t stop = std::min(start + stretch.length, std::max(start, image.size()));
      if (stretch.shared && ledger_.has_same(stretch.at, image, start, stop - start)) continue;
      for (std::uint64_t at = start; at < stop; at += ledger::max_payload) {
        const std::uint64_t step = std::min(ledger::max_payload, stop - at);
        if (read_padded(image, at, step) != old_bytes(ledger_, start, stretch, at, step))
          written_since(image, at);
      }
    }
    rest_is_zero(i, known.new_size, known.size_at_commit, covered);
  }

  // In front of the new end: each sector of what was written directly is that, or what it was
  // before; behind it, what it was before, or still zeros.
  void direct_or_old(std::size_t i) {
    const LedgerIndex::Image& known = index_.images[i];
    const auto look = [&](std::uint64_t start, std::uint64_t end, const LedgerRange& kept,
                          std::uint64_t kept_start) {
      // Zeros may be many, and where the image does not reach there is nothing else.
      if (kept.at == 0) end = std::min(end, std::max(start, images_[i]->size()));
      for (std::uint64_t at = start; at < end; at += ledger::max_payload) {
        const std::uint64_t step = std::min(ledger::max_payload, end - at);
        old_or_wrote(i, at, old_bytes(ledger_, kept_start, kept, at, step));
      }
    };
    for (const auto& [start, kept] : known.kept) look(start, start + kept.length, kept, start);
    for (const auto& [start, cut] : known.cut) look(start, start + cut.length, cut, start);
  }

  void moved_or_zero(std::size_t i, bool fetched) {
    for (const auto& [start, moved] : index_.images[i].moved) {
      const Buffer here = read_padded(*images_[i], start, moved.length);
      if (fetched) {
        if (crc32c(here) != moved.crc) written_since(*images_[i], start);
        continue;
      }
      moved_bytes(moved);
      const Buffer there = read_padded(*images_[moved.image], moved.at, moved.length);
      for (std::uint64_t at = 0; at < here.size(); at += sector_size)
        same_or_zero(i, start + at, piece_of(here, at), piece_of(there, at));
    }
  }

 private:
  // Calls visit(before, after) for what the seal writes: an `after` record follows its `before`
  // record, and speaks of the same bytes.
  void for_each_pair(const std::function<void(const Ledger::Entry&, const Ledger::Entry&)>& visit) {
    std::optional<Ledger::Entry> old;
    ledger_.for_each([&](const Ledger::Entry& entry) {
      if (entry.kind == RecordKind::before) old = entry;
      if (entry.kind != RecordKind::after) return;
      if (!old || old->image != entry.image || old->offset != entry.offset ||
          old->length != entry.length)
        damaged("the ledger's old and new bytes do not pair up", ledger_.path());
      visit(*old, entry);
    });
  }

  static Buffer part_of(const Ledger::Entry& entry, std::uint64_t at, std::uint64_t size) {
    Buffer bytes(size);
    if (!entry.zero)
      std::copy_n(entry.payload.begin() + static_cast<std::ptrdiff_t>(at), size, bytes.begin());
    return bytes;
  }
  static ConstByteSpan piece_of(const Buffer& bytes, std::uint64_t at) {
    return ConstByteSpan(bytes).subspan(at,
                                        std::min<std::uint64_t>(sector_size, bytes.size() - at));
  }

  void same_or_zero(std::size_t i, std::uint64_t at, ConstByteSpan now, ConstByteSpan old) const {
    if (!std::equal(now.begin(), now.end(), old.begin()) && !all_zero(now))
      written_since(*images_[i], at);
  }

  void old_or_wrote(std::size_t i, std::uint64_t from, const Buffer& old) {
    const LedgerIndex::Image& known = index_.images[i];
    const Buffer now = read_padded(*images_[i], from, old.size());
    for (std::uint64_t at = 0; at < now.size(); at += sector_size) {
      const ConstByteSpan here = piece_of(now, at);
      const ConstByteSpan was = piece_of(old, at);
      if (std::equal(here.begin(), here.end(), was.begin())) continue;
      if (from + at >= known.new_size) {
        same_or_zero(i, from + at, here, was);
        continue;
      }
      auto wrote = known.wrote.upper_bound(from + at);
      const bool covered =
          wrote != known.wrote.begin() &&
          (--wrote, wrote->first + wrote->second.length >= from + at + here.size());
      if (!covered ||
          !has_sums(ledger_, *images_[i], wrote->first, wrote->second, from + at, here.size()))
        written_since(*images_[i], from + at);
    }
  }

  Ledger& ledger_;
  const LedgerIndex& index_;
  const std::vector<Store*>& images_;
  std::string verdict_;
  Advice next_;
};

Ranges ours_of(const LedgerIndex::Image& known) {
  Ranges ours = known.after;
  for (const auto& [start, stretch] : known.wrote) add_range(ours, start, start + stretch.length);
  return ours;
}

Suggestion keep_command(const Ledger& ledger) {
  Suggestion command = suggest("recover").with("keep-as-is");
  for (const Ledger::Image& image : ledger.images()) command.images.push_back(image.path);
  return command;
}

}  // namespace

bool has_sums(Ledger& ledger, Store& image, std::uint64_t start, const LedgerRange& stretch,
              std::uint64_t from, std::uint64_t length) {
  if (from + length > image.size()) return false;
  if (stretch.shared) return ledger.has_same(stretch.at + (from - start), image, from, length);
  for (std::uint64_t done = 0; done < length; done += ledger::max_payload) {
    const std::uint64_t step = std::min(ledger::max_payload, length - done);
    const Buffer bytes = read_buffer(image, from + done, step);
    const Buffer checksums = checksums_of(ledger, start, stretch, from + done, step);
    for (std::uint64_t at = 0; at < step; at += sector_size)
      if (!sector_fits(bytes, checksums, at)) return false;
  }
  return true;
}

void check_can_finish(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  Check check(ledger, index, images, "the interrupted change cannot be finished over that",
              "nothing was written. Put the image back that the change was made on, or, if it is "
              "good as it is now, keep it and forget the change:\n  " +
                  keep_command(ledger));
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    check.size_is(i, known.size_at_commit, known.new_size);
  }
  check.sealed_bytes(/*or_old=*/true);
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    check.direct_bytes(i, known.new_size);
    check.rest_is_zero(i, known.old_size, known.new_size, ours_of(known));
    check.tail_bytes(i);
  }
}

void check_not_begun(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  const bool undoing = ledger.state() == Ledger::State::undoing;
  Check check(ledger, index, images, "and the change may be there in part",
              "nothing was written. Put the image back that the change was made on, or as it was "
              "before the change");
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    const std::uint64_t before = undoing ? known.new_size : known.size_at_commit;
    const std::uint64_t after = undoing ? known.old_size : known.new_size;
    if (before != after && images[i]->size() == after) check.written_since(*images[i], 0);
  }
  if (undoing && ledger.is_fetched()) check.written_since(*images.front(), 0);
  check.nothing_reached(undoing);
}

void check_can_undo(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  Check check(ledger, index, images, "undoing it would lose that",
              "the image stays as it is; the change cannot be undone any more");
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    check.size_is(i, known.new_size, known.new_size);
  }
  check.sealed_bytes(/*or_old=*/false);
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    check.direct_bytes(i, known.new_size);
    for (const auto& [start, moved] : known.moved) check.moved_bytes(moved);
    check.rest_is_zero(i, known.old_size, known.new_size, ours_of(known));
  }
}

void check_can_finish_undo(Ledger& ledger, const LedgerIndex& index,
                           const std::vector<Store*>& images) {
  Check check(ledger, index, images, "the interrupted undo cannot be finished over that",
              "nothing was written. Put the image back that the undo was begun on, or, if it is "
              "good as it is now, keep it and forget the undo:\n  " +
                  keep_command(ledger));
  for (std::size_t i = 0; i < images.size(); ++i)
    check.size_is(i, index.images[i].new_size, index.images[i].old_size);
  check.sealed_bytes(/*or_old=*/true);
  for (std::size_t i = 0; i < images.size(); ++i) {
    const LedgerIndex::Image& known = index.images[i];
    check.direct_or_old(i);
    check.moved_or_zero(i, ledger.is_fetched());
    if (images[i]->size() <= known.old_size) continue;
    // What the change added is untouched until it is cut off at the very end.
    check.rest_is_zero(i, known.old_size, known.new_size, ours_of(known));
    for (const auto& [start, stretch] : known.wrote)
      if (start >= known.old_size) check.direct_stretch(i, start, stretch, known.new_size);
  }
}

}  // namespace jh
