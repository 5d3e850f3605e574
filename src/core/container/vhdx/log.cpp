#include "core/container/vhdx/log.h"

#include <fmt/format.h>

#include <optional>

#include "core/base/checksum.h"

namespace jh::vhdx {
namespace {

constexpr std::uint64_t descriptors_in_first = (log_sector - sizeof(LogEntry)) / 32;

class Log {
 public:
  Log(Store& file, const Header& header)
      : name_(file.name()),
        log_(header.log),
        bytes_(read_buffer(file, header.log_offset.value(), header.log_length.value())) {}

  LogReplay newest(std::uint64_t file_size) {
    const std::uint64_t sectors = bytes_.size() / log_sector;
    entries_.resize(sectors);
    looked_at_.resize(sectors);
    std::optional<std::uint64_t> best;
    std::uint64_t best_sequence = 0;
    for (std::uint64_t start = 0; start < sectors; ++start) {
      const LogEntry* head = last_of(start);
      if (head == nullptr || head->sequence.value() < best_sequence) continue;
      best = head->tail.value() / log_sector;
      best_sequence = head->sequence.value();
    }
    if (!best)
      damaged("the image's log should hold writes, but none of its entries is whole", name_,
              "take the image from a backup, or let the hypervisor check it");
    return collect(*best, best_sequence, file_size);
  }

 private:
  // Bytes of the log, which is a ring.
  Buffer ring(std::uint64_t at, std::uint64_t length) const {
    Buffer bytes(length);
    for (std::uint64_t done = 0; done < length;) {
      const std::uint64_t from = (at + done) % bytes_.size();
      const std::uint64_t step = std::min(length - done, bytes_.size() - from);
      std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(from), step,
                  bytes.begin() + static_cast<std::ptrdiff_t>(done));
      done += step;
    }
    return bytes;
  }

  // The entry that begins at this sector; null when there is no whole one.
  const LogEntry* entry(std::uint64_t start) {
    auto& slot = entries_[start];
    if (looked_at_[start]) return slot ? &*slot : nullptr;
    looked_at_[start] = true;
    const auto found = parse_as<LogEntry>(bytes_, start * log_sector);
    const std::uint64_t length = found.length.value();
    if (std::string_view(found.signature.data(), 4) != "loge" || found.log != log_ || length == 0 ||
        length % log_sector != 0 || length > bytes_.size() ||
        found.tail.value() % log_sector != 0 || found.tail.value() >= bytes_.size() ||
        found.sequence.value() == 0)
      return nullptr;
    const std::uint64_t heads =
        found.descriptors.value() <= descriptors_in_first
            ? 1
            : 1 + ceil_div(found.descriptors.value() - descriptors_in_first, log_sector / 32);
    if (heads * log_sector > length) return nullptr;
    Buffer whole = ring(start * log_sector, length);
    put_at(whole, offsetof(LogEntry, checksum), Le32(0));
    if (crc32c(whole) != found.checksum.value()) return nullptr;
    slot = found;
    return &*slot;
  }

  // The last entry of the unbroken sequence that begins here, if it begins at its own tail.
  const LogEntry* last_of(std::uint64_t start) {
    const LogEntry* head = entry(start);
    if (head == nullptr) return nullptr;
    std::uint64_t at = start;
    for (std::uint64_t steps = 0; steps < entries_.size(); ++steps) {
      const std::uint64_t next = (at + head->length.value() / log_sector) % entries_.size();
      const LogEntry* further = next == start ? nullptr : entry(next);
      if (further == nullptr || further->sequence.value() != head->sequence.value() + 1) break;
      head = further;
      at = next;
    }
    // One that begins before its tail, or behind it, is looked at from another start.
    return head->tail.value() == start * log_sector ? head : nullptr;
  }

  LogReplay collect(std::uint64_t at, std::uint64_t last_sequence, std::uint64_t file_size) {
    LogReplay replay;
    for (std::uint64_t steps = 0; steps < entries_.size(); ++steps) {
      const LogEntry* one = entry(at);
      ensure(one != nullptr, "the sequence was walked before");
      if (file_size < one->flushed_file_offset.value())
        damaged(fmt::format("the file was {} bytes long when its log was written, and is {} now",
                            one->flushed_file_offset.value(), file_size),
                name_, "the file was cut short; take it from a backup");
      replay.file_size = std::max(replay.file_size, one->last_file_offset.value());
      add_writes(*one, at, replay);
      if (one->sequence.value() == last_sequence) break;
      at = (at + one->length.value() / log_sector) % entries_.size();
    }
    return replay;
  }

  void add_writes(const LogEntry& one, std::uint64_t start, LogReplay& replay) {
    const Buffer whole = ring(start * log_sector, one.length.value());
    const std::uint64_t count = one.descriptors.value();
    std::uint64_t data = round_up(sizeof(LogEntry) + count * sizeof(LogDescriptor), log_sector);
    for (std::uint64_t i = 0; i < count; ++i) {
      const auto descriptor =
          parse_as<LogDescriptor>(whole, sizeof(LogEntry) + i * sizeof(LogDescriptor));
      const std::string_view kind(descriptor.signature.data(), 4);
      if (descriptor.sequence.value() != one.sequence.value() ||
          (kind != "zero" && kind != "desc") || descriptor.offset.value() % log_sector != 0)
        damaged("a descriptor in the image's log cannot be true", name_);
      LogWrite write;
      write.offset = descriptor.offset.value();
      if (kind == "zero") {
        write.zero = true;
        write.length = descriptor.leading.value();
      } else {
        const auto sector = parse_as<LogData>(whole, data);
        data += log_sector;
        if (std::string_view(sector.signature.data(), 4) != "data" ||
            sector.sequence_high.value() != one.sequence.value() >> 32 ||
            sector.sequence_low.value() != (one.sequence.value() & 0xffffffff))
          damaged("a sector of data in the image's log is torn", name_);
        write.length = log_sector;
        write.data.resize(log_sector);
        put_at(write.data, 0, descriptor.leading);
        std::copy(sector.data.begin(), sector.data.end(), write.data.begin() + 8);
        put_at(write.data, log_sector - 4, descriptor.trailing);
      }
      checked_add(write.offset, write.length);
      replay.writes.push_back(std::move(write));
    }
  }

  std::string name_;
  Uuid log_;
  Buffer bytes_;
  std::vector<std::optional<LogEntry>> entries_;  // by sector
  std::vector<bool> looked_at_;
};

}  // namespace

LogReplay read_log(Store& file, const Header& header) {
  LogReplay replay = Log(file, header).newest(file.size());
  // Nothing lies further out than a table for the largest disk could.
  if (replay.file_size > 4 * most_bytes)
    damaged("the image's log asks for a longer file than any disk needs", file.name());
  for (LogWrite& write : replay.writes) {
    const std::uint64_t end = std::max(file.size(), replay.file_size);
    if (write.offset + write.length <= end) continue;
    if (!write.zero) damaged("the image's log writes past the file's end", file.name());
    write.length = write.offset >= end ? 0 : end - write.offset;
  }
  return replay;
}

void replay(const LogReplay& log, Store& file) {
  for (const LogWrite& write : log.writes) {
    if (write.length == 0) continue;
    write.zero ? file.discard(write.offset, write.length) : file.write(write.offset, write.data);
  }
}

}  // namespace jh::vhdx
