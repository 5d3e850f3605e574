// Bytes that a ledger has in blocks of the host that it shares with an image.
#include "core/store/ledger.h"

namespace jh {

using ledger::Record;
using ledger::RecordKind;

namespace {

bool may_be_shared(RecordKind kind) {
  return kind == RecordKind::before_direct || kind == RecordKind::wrote || kind == RecordKind::cut;
}

}  // namespace

Ledger::Shared Ledger::append_shared(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                                     Store& file, std::uint64_t source, std::uint64_t length) {
  length = round_down(length, ledger::block_size);
  if (!shares_ || length == 0 || source % ledger::block_size != 0) return {};
  write_back();
  constexpr std::uint64_t head = sizeof(Record) + sizeof(ledger::SharedPlace);
  const std::uint64_t at = round_up(end_ + head, ledger::shared_alignment);
  const std::uint64_t size = file_->size();
  file_->resize(std::max(size, checked_add(at, length)));
  const Location from = file.locate(source, length);
  length = from.store == nullptr
               ? 0
               : file_->share(at, *from.store, from.at, std::min(length, from.length));
  length = round_down(length, ledger::block_size);
  if (length == 0) {
    shares_ = false;
    file_->resize(size);
    return {};
  }
  ledger::SharedPlace place{};
  place.at = at;
  append_about(kind, image, offset, length, bytes_of(place), ledger::flag_shared);
  write_back();
  end_ = at + length;
  shared_bytes_ += length;
  return {length, at};
}

bool Ledger::has_same(std::uint64_t at, Store& image, std::uint64_t offset, std::uint64_t length) {
  for (std::uint64_t done = 0; done < length;) {
    const Location there = image.locate(offset + done, length - done);
    std::uint64_t step = there.store == nullptr || there.length < ledger::worth_sharing
                             ? 0
                             : file_->same_blocks(at + done, *there.store, there.at, there.length);
    if (step == 0) {
      step = std::min(ledger::max_payload, length - done);
      if (read_buffer(*file_, at + done, step) != read_buffer(image, offset + done, step))
        return false;
    }
    done += step;
  }
  return true;
}

void Ledger::give_back(std::uint64_t at, Store& image, std::uint64_t offset, std::uint64_t length) {
  for (std::uint64_t done = 0; done < length;) {
    const Location there = image.locate(offset + done, length - done);
    std::uint64_t step =
        there.store == nullptr ? 0 : there.store->share(there.at, *file_, at + done, there.length);
    if (step == 0) {
      step = std::min(ledger::max_payload, length - done);
      image.write(offset + done, read_buffer(*file_, at + done, step));
    }
    done += step;
  }
}

// The bytes lie behind the record, at the next place that can be shared; the record ends with them.
bool Ledger::find_shared(Entry& entry, std::uint64_t& end, std::uint64_t limit) {
  if (!may_be_shared(entry.kind) || entry.payload.size() != sizeof(ledger::SharedPlace) ||
      entry.length == 0 || entry.length % ledger::block_size != 0)
    return false;
  const std::uint64_t at = parse_as<ledger::SharedPlace>(entry.payload, 0).at.value();
  if (at != round_up(end, ledger::shared_alignment) || at > limit || limit - at < entry.length)
    return false;
  entry.shared = true;
  entry.at = at;
  entry.payload = {};
  end = at + entry.length;
  return true;
}

}  // namespace jh
