#include "core/fs/xfs/log.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/fs/xfs/log_format.h"

namespace jh::xfs {
namespace {

// A record is at most so long, with its headers: the guest's buffers are of 256 KiB.
constexpr std::uint64_t longest_record = (256U << 10) / basic_block + 16;
// So many records may be on their way at one time: a power cut may have left any of them torn.
constexpr unsigned buffers = 8;
constexpr std::uint64_t torn_reach = buffers * ((256U << 10) / basic_block);

// Each sector begins with the number of the round in which it was written; a record's header has
// it behind its magic.
std::uint32_t cycle_of(ConstByteSpan bytes, std::size_t at) {
  const auto first = parse_as<Be32>(bytes, at).value();
  return first == log_magic ? parse_as<Be32>(bytes, at + 4).value() : first;
}

constexpr std::size_t summed_header = 328;  // bytes of the header, as most processors pad it

// Of a record as it lies on disk; what is in the place of the checksum does not count.
std::uint32_t record_sum(ConstByteSpan record, std::size_t header_size, std::uint64_t headers,
                         std::uint64_t length) {
  Buffer head(record.begin(), record.begin() + static_cast<std::ptrdiff_t>(header_size));
  put_at(head, offsetof(LogRecord, checksum), Le32(0));
  std::uint32_t checksum = crc32c_raw(~0U, head);
  for (std::uint64_t more = 1; more < headers; ++more)
    checksum = crc32c_raw(checksum, record.subspan(more * basic_block, sizeof(LogRecordMore)));
  return ~crc32c_raw(checksum, record.subspan(headers * basic_block, length));
}

// Where the headers keep the first word of a sector of the data.
std::size_t word_place(std::uint64_t sector) {
  constexpr std::uint64_t in_header = log_header_reach / basic_block;
  return sector < in_header ? offsetof(LogRecord, cycles) + sector * sizeof(Be32)
                            : sector / in_header * basic_block + offsetof(LogRecordMore, cycles) +
                                  sector % in_header * sizeof(Be32);
}

// What leaves nothing to be done: that the filesystem was unmounted, or a transaction of nothing.
Buffer closing_text(bool ends) {
  Buffer text;
  const auto add = [&](const auto& part) {
    const ConstByteSpan bytes = bytes_of(part);
    text.insert(text.end(), bytes.begin(), bytes.end());
  };
  const auto operation = [&](std::uint8_t client, std::uint8_t flags, std::uint32_t length) {
    LogOperation made{};
    made.transaction = 0xB0C0D0D0;
    made.length = length;
    made.client = client;
    made.flags = flags;
    add(made);
  };
  if (ends) {
    UnmountText unmounted{};
    unmounted.magic = unmount_magic;
    operation(log_client::log, log_flag::unmount, sizeof(unmounted));
    add(unmounted);
  } else {
    operation(log_client::transaction, log_flag::start, 0);
    operation(log_client::transaction, log_flag::commit, 0);
  }
  return text;
}

}  // namespace

Log::Log(Store& place, const Geometry& geometry)
    : place_(place),
      geometry_(geometry),
      start_(geometry.block_at(geometry.superblock().log_start.value())),
      sectors_(geometry.superblock().log_blocks.value() * geometry.block_size() / basic_block) {
  if (sectors_ < longest_record) corrupt("the log has no room for a record");
  if (cycle(0) == 0) {
    at_rest_ = true;  // never written to
    return;
  }
  find_head();
  drop_incomplete();
  find_tail();
}

std::uint32_t Log::cycle(std::uint64_t sector) const {
  return cycle_of(read_buffer(place_, at(sector), 8), 0);
}

// The first sector of [from, to) that was written in this round.
std::uint64_t Log::torn_at(std::uint64_t from, std::uint64_t to, std::uint32_t cycle,
                           std::uint64_t otherwise) const {
  constexpr std::uint64_t step = 512;  // sectors read at once
  for (std::uint64_t start = from; start < to; start += step) {
    const std::uint64_t count = std::min(step, to - start);
    const Buffer bytes = read_sectors(start, count);
    for (std::uint64_t i = 0; i < count; ++i)
      if (cycle_of(bytes, i * basic_block) == cycle) return start + i;
  }
  return otherwise;
}

// The first sector that the present round has not reached: in front of it stands its number,
// behind it the one before (or nothing yet). Records that were on their way together reach the
// disk in any order: a sector of the round before among those in front ends what counts.
void Log::find_head() {
  const std::uint32_t present = cycle(0);
  const std::uint32_t last = cycle(sectors_ - 1);
  const std::uint32_t before = last == present ? present - 1 : last;
  std::uint64_t head = sectors_;
  if (last != present) {
    std::uint64_t low = 0;
    head = sectors_ - 1;
    while (head - low > 1) {
      const std::uint64_t middle = low + (head - low) / 2;
      (cycle(middle) == last ? head : low) = middle;
    }
  }
  const std::uint64_t reach = std::min(torn_reach, sectors_);
  if (head >= reach) {
    head = torn_at(head - reach, head, before, head);
  } else {
    const std::uint64_t from = sectors_ - (reach - head);
    const std::uint64_t torn = torn_at(from, sectors_, before - 1, sectors_);
    head = torn == sectors_ ? torn_at(0, head, before, head) : torn;
  }
  head_ = head;
}

// Where the record begins that is the last one before this sector.
std::uint64_t Log::record_before(std::uint64_t sector) const {
  const std::uint64_t most = std::min(longest_record, sectors_);
  for (std::uint64_t back = 1; back <= most; ++back) {
    const std::uint64_t at = (sector + sectors_ - back) % sectors_;
    if (read_as<Be32>(place_, this->at(at)).value() == log_magic) return at;
  }
  corrupt("the log has no record in front of its head");
}

Log::Found Log::look(std::uint64_t sector) const {
  Found found;
  found.sector = sector % sectors_;
  found.header = read_as<LogRecord>(place_, at(sector));
  const LogRecord& header = found.header;
  if (header.magic.value() != log_magic)
    corrupt(fmt::format("the log has no record in its sector {}", found.sector));
  const std::uint64_t length = header.length.value();
  const std::uint64_t room = std::max<std::uint64_t>(header.size.value(), log_header_reach);
  if (length > longest_record * basic_block || room > 2 * longest_record * basic_block)
    corrupt(fmt::format("the record in sector {} of the log is impossible", found.sector));
  found.headers = (header.version.value() & 2) != 0
                      ? static_cast<std::uint32_t>(ceil_div(room, log_header_reach))
                      : 1;
  found.sectors = found.headers + ceil_div(length, basic_block);
  return found;
}

Buffer Log::read_sectors(std::uint64_t sector, std::uint64_t count) const {
  sector %= sectors_;
  const std::uint64_t first = std::min(count, sectors_ - sector);
  Buffer bytes = read_buffer(place_, at(sector), first * basic_block);
  if (first < count) {
    const Buffer rest = read_buffer(place_, at(0), (count - first) * basic_block);
    bytes.insert(bytes.end(), rest.begin(), rest.end());
  }
  return bytes;
}

bool Log::sum_is_right(const Found& found) const {
  const Buffer bytes = read_sectors(found.sector, found.sectors);
  const std::uint32_t kept = found.header.checksum.value();
  const auto checksum = [&](std::size_t size) {
    return record_sum(bytes, size, found.headers, found.header.length.value());
  };
  // Processors differ in how they pad the header at its end.
  return checksum(summed_header) == kept || checksum(sizeof(LogRecord)) == kept;
}

// The newest record may not have come to the disk as a whole.
void Log::drop_incomplete() {
  const std::uint64_t record = record_before(head_);
  const std::uint64_t there = distance(record, head_);
  if (look(record).sectors % sectors_ != (there == 0 ? sectors_ : there) % sectors_) head_ = record;
}

void Log::find_tail() {
  std::uint64_t newest = record_before(head_);
  const std::uint64_t tail = look(newest).header.tail.value() & 0xFFFFFFFF;
  // Back over those that may be torn, and forward again to the first that is.
  std::vector<std::uint64_t> recent{newest};
  while (recent.size() < buffers && recent.back() != tail % sectors_)
    recent.push_back(record_before(recent.back()));
  for (std::size_t i = recent.size(); i-- > 0;) {
    const Found here = look(recent[i]);
    // Who makes a filesystem leaves the checksum of its only record out.
    if (here.header.checksum.value() == 0 || sum_is_right(here)) continue;
    if (i + 1 == recent.size()) corrupt("no record in front of the log's head is whole");
    head_ = recent[i];
    newest = recent[i + 1];
    break;
  }
  const Found found = look(newest);
  const std::uint64_t sequence = found.header.tail.value();
  tail_ = sequence & 0xFFFFFFFF;
  tail_cycle_ = static_cast<std::uint32_t>(sequence >> 32);
  if (tail_ >= sectors_) corrupt("the log's tail lies outside of it");
  head_cycle_ = found.header.cycle.value() + (head_ % sectors_ <= newest ? 1 : 0);
  head_ %= sectors_;
  if (found.header.operations.value() != 1) return;
  const auto operation = read_as<LogOperation>(place_, at(newest + found.headers));
  at_rest_ = (operation.flags & log_flag::unmount) != 0;
}

void Log::for_each_record(const std::function<void(const Record&)>& visit) const {
  if (at_rest_) return;
  std::uint64_t left = distance(tail_, head_);
  if (left == 0) left = sectors_;
  for (std::uint64_t sector = tail_; left != 0;) {
    const Found found = look(sector);
    if (found.header.format.value() != log_of_little_endian)
      unsupported("the log was written by a processor of another byte order", "XFS, log",
                  "start the guest and shut it down properly, then run again");
    const Uuid none{};
    if (found.header.uuid != geometry_.superblock().uuid && found.header.uuid != none)
      corrupt(fmt::format("the record in sector {} of the log is of another filesystem", sector));
    if (found.sectors > left || !sum_is_right(found))
      corrupt(fmt::format("the record in sector {} of the log is damaged", sector));
    Record record;
    record.sequence = found.header.sequence.value();
    record.operations = found.header.operations.value();
    const Buffer headers = read_sectors(sector, found.headers);
    record.data = read_sectors(sector + found.headers, found.sectors - found.headers);
    // The first word of each sector made room for the number of the round.
    for (std::size_t i = 0; i < record.data.size() / basic_block; ++i) {
      const std::size_t kept = word_place(i);
      if (kept + 4 > headers.size())
        corrupt(fmt::format("the record in sector {} of the log is damaged", sector));
      put_at(record.data, i * basic_block, parse_as<Be32>(headers, kept));
    }
    record.data.resize(found.header.length.value());
    visit(record);
    sector = (sector + found.sectors) % sectors_;
    left -= found.sectors;
  }
}

LogRecord Log::header_of(std::uint64_t sector, std::uint32_t cycle, std::uint64_t tail) const {
  LogRecord header{};
  header.magic = log_magic;
  header.cycle = cycle;
  header.version = 2;
  header.sequence = log_sequence(cycle, sector);
  header.tail = tail;
  header.format = log_of_little_endian;
  header.uuid = geometry_.superblock().uuid;
  return header;
}

void Log::close(bool ends) {
  const std::uint64_t unit =
      std::max<std::uint64_t>(geometry_.superblock().log_stripe_unit.value(), basic_block);
  if (unit % basic_block != 0 || unit > longest_record * basic_block)
    corrupt("the log's stripe unit is impossible");
  const Buffer text = closing_text(ends);
  // Headers, text, and what fills a unit; each header reaches 64 sectors.
  std::uint64_t headers = 1;
  std::uint64_t total = 0;
  for (;; ++headers) {
    total = round_up(headers * basic_block + text.size(), unit);
    if (total - headers * basic_block <= headers * log_header_reach) break;
  }
  Buffer bytes(total);
  const std::uint64_t here = log_sequence(head_cycle_, head_);
  LogRecord header = header_of(head_, head_cycle_, here);
  header.length = checked_cast<std::uint32_t>(total - headers * basic_block);
  header.operations = ends ? 1 : 2;
  header.previous = checked_cast<std::uint32_t>(cycle(0) == 0 ? 0 : record_before(head_));
  header.size = checked_cast<std::uint32_t>(headers * log_header_reach);
  std::copy(text.begin(), text.end(),
            bytes.begin() + static_cast<std::ptrdiff_t>(headers * basic_block));
  const auto round_of = [&](std::uint64_t sector) {
    return Be32(head_cycle_ + (sector >= sectors_ ? 1 : 0));
  };
  put_at(bytes, 0, header);
  for (std::uint64_t i = 1; i < total / basic_block; ++i) {
    if (i >= headers)
      put_at(bytes, word_place(i - headers), parse_as<Be32>(bytes, i * basic_block));
    put_at(bytes, i * basic_block, round_of(head_ + i));
  }
  const std::uint32_t checksum =
      record_sum(bytes, summed_header, headers, total - headers * basic_block);
  put_at(bytes, offsetof(LogRecord, checksum), Le32(checksum));
  const auto write = [&](std::uint64_t sector, ConstByteSpan data) {
    for (; !data.empty(); data = data.subspan(basic_block), ++sector)
      place_.write(at(sector), data.first(basic_block));
  };
  write(head_, bytes);
  // Behind it lies what the last cut may have torn: it gets the number of the round before.
  std::uint64_t sector = head_ + total / basic_block;
  const std::uint64_t end = std::min(sector + torn_reach, head_ + sectors_);
  for (; sector < end; ++sector) {
    Buffer stale(basic_block);
    put_at(stale, 0, header_of(sector % sectors_, head_cycle_ - (sector < sectors_ ? 1 : 0), here));
    write(sector, stale);
  }
}

void NewestSequence::compare(Store& place, const Geometry& geometry, Findings& findings) const {
  std::uint64_t head = 0;
  try {
    head = Log(place, geometry).head();
  } catch (const Error& error) {
    if (error.status() != Status::damaged) throw;
    findings.add("XFS", error.what());
    return;
  }
  if (newest_ > head)
    findings.add("XFS",
                 fmt::format("something says that it was written by record {}:{} of the "
                             "log, but its newest is before {}:{}",
                             newest_ >> 32, newest_ & UINT32_MAX, head >> 32, head & UINT32_MAX));
}

}  // namespace jh::xfs
