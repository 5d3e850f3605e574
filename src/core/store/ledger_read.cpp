// Reading ledgers.
#include <fmt/format.h>

#include <algorithm>

#include "core/base/checksum.h"
#include "core/base/compression.h"
#include "core/store/ledger.h"

namespace jh {

using ledger::Mark;
using ledger::MarkKind;
using ledger::Record;
using ledger::RecordKind;

namespace {

[[noreturn]] void damaged_ledger(const std::string& what, const std::string& path) {
  damaged(what, path,
          "the image was not touched; keep both files and restore the ledger from a backup, or, if "
          "the image is known to be good, move the ledger away");
}

bool may_be_zero(RecordKind kind) {
  return kind == RecordKind::before_direct || kind == RecordKind::before ||
         kind == RecordKind::after || kind == RecordKind::cut || kind == RecordKind::assigned;
}

// Whether a payload is as long as a record of its kind says.
bool fits(const Ledger::Entry& entry, std::size_t images) {
  const std::uint64_t size = entry.payload.size();
  switch (entry.kind) {
    case RecordKind::before_direct:
    case RecordKind::before:
    case RecordKind::after:
    case RecordKind::cut:
    case RecordKind::spilled:
      return size == entry.length;
    case RecordKind::wrote:
      return size == ceil_div(entry.length, ledger::sector_size) * sizeof(Le32);
    case RecordKind::moved:
      return size == sizeof(ledger::MovedTo) && entry.length <= ledger::max_payload &&
             parse_as<ledger::MovedTo>(entry.payload, 0).image.value() < images;
    case RecordKind::cut_sum:
    case RecordKind::assigned:
      return size == sizeof(Le32);
    case RecordKind::new_size:
    case RecordKind::front:
      return size == 0;
  }
  return false;
}

}  // namespace

bool Ledger::read_header() {
  const std::uint64_t size = file_->size();
  const auto any_mark = [&] {
    for (std::uint64_t i = 0; i < ledger::mark_count; ++i) {
      const std::uint64_t at = i * ledger::block_size;
      if (size >= at + sizeof(Mark) && read_as<Mark>(*file_, at).magic == ledger::mark_magic)
        return true;
    }
    return false;
  };
  const auto not_begun = [&] {
    // Without a complete header no byte of the image was touched, unless the header was lost later;
    // then a mark, or the lasting name, says that this was once a real ledger.
    if (lasting_ || any_mark()) damaged_ledger("the ledger's header is damaged", file_->name());
    return false;
  };
  if (size < ledger::header_offset + sizeof(ledger::Header)) return not_begun();
  auto header = read_as<ledger::Header>(*file_, ledger::header_offset);
  const std::uint32_t length = header.length.value();
  if (header.magic != ledger::header_magic || length < sizeof(header) ||
      length > size - ledger::header_offset || length > ledger::max_header)
    return not_begun();
  Buffer raw = read_buffer(*file_, ledger::header_offset, length);
  const std::uint32_t crc = header.crc.value();
  header.crc = 0;
  put_at(raw, 0, header);
  if (crc32c(raw) != crc) return not_begun();
  if (header.version.value() < ledger::oldest_version || header.version.value() > ledger::version)
    unsupported(fmt::format("the ledger has version {}", header.version.value()), file_->name(),
                "use the release that made it");
  id_ = header.ledger_id;
  created_ = header.created.value();
  read_images(raw, header.image_count.value());
  fronts_start_ = ledger::header_offset + length;
  records_start_ = fronts_start_ + images_.size() * sizeof(ledger::Front);
  if (size < records_start_) return not_begun();
  end_ = size;
  read_marks();
  return true;
}

void Ledger::read_images(ConstByteSpan raw, std::uint32_t count) {
  const auto list_is = [&](bool sound) {
    if (!sound) damaged_ledger("the ledger's list of images is damaged", file_->name());
  };
  list_is(count != 0 && count <= raw.size() / sizeof(ledger::ImageEntry));
  std::size_t at = sizeof(ledger::Header);
  for (std::uint32_t i = 0; i < count; ++i) {
    const auto entry = parse_as<ledger::ImageEntry>(raw, at);
    at += sizeof(entry);
    const auto text = [&](std::uint32_t length) {
      list_is(length <= raw.size() - at);
      const auto from = raw.begin() + static_cast<std::ptrdiff_t>(at);
      at += length;
      return std::string(from, from + static_cast<std::ptrdiff_t>(length));
    };
    Image image{text(entry.path_length.value()),
                entry.old_size.value(),
                {entry.device.value(), entry.node.value()},
                (entry.flags.value() & ledger::image_created) != 0,
                {}};
    image.device_name = text(entry.device_name_length.value());
    list_is(!image.path.empty() && image.path.find('\0') == std::string::npos);
    images_.push_back(std::move(image));
  }
}

bool Ledger::mark_is_set(MarkKind kind) {
  const std::uint64_t at = static_cast<std::uint64_t>(kind) * ledger::block_size;
  if (file_->size() < at + sizeof(Mark)) return false;
  const auto mark = read_as<Mark>(*file_, at);
  if (mark.magic != ledger::mark_magic || mark.ledger_id != id_ ||
      mark.kind.value() != static_cast<std::uint32_t>(kind) ||
      mark.crc.value() != crc32c(bytes_of(mark).first(offsetof(Mark, crc))))
    return false;
  end_ = mark.records_end.value();
  if (end_ < records_start_ || end_ > file_->size())
    damaged_ledger("the ledger is shorter than its commit mark says", file_->name());
  if (kind == MarkKind::committed || kind == MarkKind::undoing)
    fronts_crc_ = mark.fronts_crc.value();
  if (kind == MarkKind::committed) has_undo_ = (mark.flags.value() & ledger::mark_no_undo) == 0;
  return true;
}

void Ledger::read_marks() {
  state_ = State::opened;
  if (mark_is_set(MarkKind::committed)) state_ = State::committed;
  if (state_ == State::opened && lasting_)
    damaged_ledger("the ledger's commit mark is damaged", file_->name());
  if (state_ == State::committed && mark_is_set(MarkKind::applied)) state_ = State::applied;
  if (state_ == State::applied && mark_is_set(MarkKind::done)) state_ = State::done;
  if (state_ == State::done && mark_is_set(MarkKind::undoing)) state_ = State::undoing;
  fetched_ = state_ == State::undoing && mark_is_set(MarkKind::fetched);
  if (state_ == State::undoing && mark_is_set(MarkKind::restored)) state_ = State::restored;
  const bool needs_fronts = state_ != State::opened && state_ != State::done;
  if (needs_fronts && crc32c(fronts_area()) != fronts_crc_)
    damaged_ledger("what the ledger has of the images' first pages is damaged", file_->name());
}

Buffer Ledger::fronts_area() {
  return read_buffer(*file_, fronts_start_, records_start_ - fronts_start_);
}

std::vector<Buffer> Ledger::fronts() {
  const Buffer area = fronts_area();
  std::vector<Buffer> pages;
  for (std::size_t i = 0; i < images_.size(); ++i) {
    const auto front = parse_as<ledger::Front>(area, i * sizeof(ledger::Front));
    if (front.length.value() > front.page.size())
      damaged_ledger("the ledger speaks of a front that no image has", file_->name());
    pages.emplace_back(front.page.begin(), front.page.begin() + front.length.value());
  }
  return pages;
}

// Only of records whose bytes nobody looks for by their place.
bool Ledger::decompress_payload(Entry& entry) {
  if ((entry.kind != RecordKind::before && entry.kind != RecordKind::after) || entry.length == 0 ||
      entry.length > ledger::max_payload)
    return false;
  Buffer whole(entry.length);
  try {
    decompress(Compression::zstd, entry.payload, whole);
  } catch (const Error&) {
    return false;
  }
  entry.bytes = std::make_shared<const Buffer>(std::move(whole));
  entry.payload = *entry.bytes;
  return true;
}

// The bytes were put into the ledger, in front of this record, when there were too many to hold.
bool Ledger::fetch_parked(Entry& entry, std::uint64_t before) {
  if (entry.payload.size() != sizeof(ledger::Spilled) || entry.length > ledger::max_payload)
    return false;
  const auto spilled = parse_as<ledger::Spilled>(entry.payload, 0);
  const std::uint64_t from = spilled.at.value();
  if (from < records_start_ || from > before || before - from < entry.length) return false;
  entry.bytes = spilled_bytes(from, entry.length, spilled.crc.value());
  if (entry.bytes) entry.payload = *entry.bytes;
  return entry.bytes != nullptr;
}

// Null: they are not what they should be.
std::shared_ptr<const Buffer> Ledger::spilled_bytes(std::uint64_t at, std::uint64_t length,
                                                    std::uint32_t crc) {
  constexpr std::size_t most = 12;
  const auto known =
      std::find_if(fetched_bytes_.begin(), fetched_bytes_.end(), [&](const Fetched& one) {
        return one.at == at && one.crc == crc && one.bytes->size() == length;
      });
  if (known != fetched_bytes_.end()) return known->bytes;
  auto bytes = std::make_shared<const Buffer>(read_buffer(*file_, at, length));
  if (crc32c(*bytes) != crc) return nullptr;
  fetched_bytes_.push_front({at, crc, bytes});
  if (fetched_bytes_.size() > most) fetched_bytes_.pop_back();
  return bytes;
}

// Records are small and many: the file is read in large pieces, but behind bytes that were passed
// over, where more of them may follow. The range lies before `limit`.
ConstByteSpan Ledger::window(std::uint64_t at, std::uint64_t length, std::uint64_t limit) {
  const std::uint64_t end = window_start_ + window_.size();
  if (at < window_start_ || at + length > end) {
    constexpr std::uint64_t few = ledger::block_size;
    constexpr std::uint64_t most = 2 * ledger::max_payload;
    const bool goes_on = at >= window_start_ && at <= end;
    window_ahead_ = goes_on ? std::min(most, 8 * window_ahead_) : few;
    window_ = read_buffer(*file_, at, std::min(limit - at, std::max(length, window_ahead_)));
    window_start_ = at;
  }
  return ConstByteSpan(window_).subspan(at - window_start_, length);
}

std::optional<Ledger::Entry> Ledger::read_record(std::uint64_t& at, std::uint64_t limit,
                                                 bool bytes) {
  if (limit - at < sizeof(Record)) return std::nullopt;
  const auto record = parse_as<Record>(window(at, sizeof(Record), limit), 0);
  const std::uint32_t payload_length = record.payload_length.value();
  const bool sound =
      record.magic.value() == ledger::record_magic &&
      record.crc.value() ==
          ~crc32c_raw(crc32c_raw(~0U, id_), bytes_of(record).first(offsetof(Record, crc))) &&
      payload_length <= ledger::max_payload && record.image.value() < images_.size() &&
      limit - at - sizeof(Record) >= payload_length;
  if (!sound) return std::nullopt;
  Entry entry;
  entry.kind = static_cast<RecordKind>(record.kind.value());
  entry.image = record.image.value();
  entry.zero = (record.flags.value() & ledger::flag_zero) != 0;
  entry.offset = record.offset.value();
  entry.length = record.length.value();
  entry.at = at + sizeof(Record);
  if (entry.offset + entry.length < entry.offset) return std::nullopt;
  const ConstByteSpan payload = window(at + sizeof(Record), payload_length, limit);
  if (!payload.empty()) {
    entry.bytes = std::make_shared<const Buffer>(payload.begin(), payload.end());
    entry.payload = *entry.bytes;
  }
  if (crc32c(entry.payload) != record.payload_crc.value()) return std::nullopt;
  std::uint64_t end = at + sizeof(Record) + payload_length;
  const std::uint32_t flags = record.flags.value();
  if ((flags & ledger::flag_shared) != 0) {
    if (flags != ledger::flag_shared || !find_shared(entry, end, limit)) return std::nullopt;
  } else if ((flags & ledger::flag_compressed) != 0) {
    if (flags != ledger::flag_compressed || (bytes && !decompress_payload(entry)))
      return std::nullopt;
  } else if (entry.kind == RecordKind::after && (flags & ledger::flag_spilled) != 0) {
    if (bytes && !fetch_parked(entry, at)) return std::nullopt;
  } else if (entry.zero ? !may_be_zero(entry.kind) : !fits(entry, images_.size())) {
    return std::nullopt;
  }
  at = std::min(limit, round_up(end, 8));
  return entry;
}

void Ledger::for_each(const std::function<void(const Entry&)>& visit, bool bytes) {
  write_back();
  // Records are only ever added.
  if (window_limit_ != end_) window_.clear();
  window_limit_ = end_;
  fetched_bytes_.clear();
  const std::uint64_t limit = end_;
  std::uint64_t at = records_start_;
  while (at < limit) {
    const auto entry = read_record(at, limit, bytes);
    if (!entry) {
      if (state_ != State::opened)
        damaged_ledger(fmt::format("the record at byte {} is damaged", at), file_->name());
      return;
    }
    visit(*entry);
  }
}

}  // namespace jh
