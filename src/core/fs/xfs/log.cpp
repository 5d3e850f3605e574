#include "core/fs/xfs/log.h"

namespace jh::xfs {
namespace {

// A record begins in one of so many sectors before its end: the largest is 256 KiB, with its
// headers.
constexpr std::uint64_t longest_record = 256 * 1024 / basic_block + 16;

class Log {
 public:
  Log(Store& place, const Geometry& geometry)
      : place_(place),
        start_(geometry.block_at(geometry.superblock().log_start.value())),
        sectors_(geometry.superblock().log_blocks.value() * geometry.block_size() / basic_block) {}

  bool at_rest() const {
    if (sectors_ < 2) wrong("the log has no room for a record");
    if (cycle(0) == 0) return true;  // never written
    const std::uint64_t head = find_head();
    const std::uint64_t record = find_record(head);
    const auto header = read_as<LogRecord>(place_, at(record));
    const std::uint64_t length = header.length.value();
    if (length > longest_record * basic_block) wrong("the newest record of the log is impossible");
    constexpr std::uint32_t cycles_in_header = 32 * 1024;
    const std::uint64_t headers =
        (header.version.value() & 2) != 0 && header.size.value() > cycles_in_header
            ? ceil_div(header.size.value(), cycles_in_header)
            : 1;
    const std::uint64_t end = (record + headers + ceil_div(length, basic_block)) % sectors_;
    if (end != head % sectors_ || header.operations.value() != 1) return false;
    // Its only operation: transaction, length, client, flags.
    const Buffer operation = read_buffer(place_, at((record + headers) % sectors_), 12);
    return (operation[9] & unmount_operation) != 0;
  }

 private:
  std::uint64_t at(std::uint64_t sector) const { return start_ + sector * basic_block; }

  // Each sector begins with the number of the round in which it was written; a record's header has
  // it behind its magic.
  std::uint32_t cycle(std::uint64_t sector) const {
    const Buffer bytes = read_buffer(place_, at(sector), 8);
    const auto first = parse_as<Be32>(bytes, 0).value();
    return first == log_magic ? parse_as<Be32>(bytes, 4).value() : first;
  }

  // The first sector that the present round has not reached: in front of it stands its number,
  // behind it the one before (or nothing yet).
  std::uint64_t find_head() const {
    const std::uint32_t present = cycle(0);
    if (cycle(sectors_ - 1) == present) return 0;
    std::uint64_t low = 0;
    std::uint64_t high = sectors_ - 1;
    while (high - low > 1) {
      const std::uint64_t middle = low + (high - low) / 2;
      (cycle(middle) == present ? low : high) = middle;
    }
    return high;
  }

  std::uint64_t find_record(std::uint64_t head) const {
    const std::uint64_t most = std::min(longest_record, sectors_);
    for (std::uint64_t back = 1; back <= most; ++back) {
      const std::uint64_t sector = (head + sectors_ - back) % sectors_;
      if (read_as<Be32>(place_, at(sector)).value() == log_magic) return sector;
    }
    wrong("the log has no record in front of its head");
  }

  Store& place_;
  std::uint64_t start_;
  std::uint64_t sectors_;
};

}  // namespace

bool log_is_at_rest(Store& place, const Geometry& geometry) {
  return Log(place, geometry).at_rest();
}

}  // namespace jh::xfs
