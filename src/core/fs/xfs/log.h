// Log: its records, from the oldest that is still needed to the newest.
#pragma once

#include <algorithm>
#include <functional>
#include <vector>

#include "core/base/findings.h"
#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/log_format.h"

namespace jh::xfs {

/// A place in the log: the round in the upper half, the sector in the lower.
constexpr std::uint64_t log_sequence(std::uint32_t cycle, std::uint64_t sector) {
  return std::uint64_t{cycle} << 32 | sector;
}

/// The newest place of the log that anything on disk says it was written by.
class NewestSequence {
 public:
  void note(std::uint64_t sequence) {
    if (sequence != never_logged) newest_ = std::max(newest_, sequence);
  }
  /// Nothing is on disk before the log has it: a kernel refuses what says so. A log that cannot be
  /// read is a finding as well.
  void compare(Store& place, const Geometry& geometry, Findings& findings) const;

 private:
  static constexpr std::uint64_t never_logged = UINT64_MAX;
  std::uint64_t newest_ = 0;
};

class Log {
 public:
  /// Finds head and tail; reads a few sectors, and up to eight records. Throws damaged.
  Log(Store& place, const Geometry& geometry);

  /// The newest record says that the filesystem was unmounted, or nothing was ever written.
  bool at_rest() const { return at_rest_; }
  /// Nothing on disk may have been written by what comes after it.
  std::uint64_t head() const { return log_sequence(head_cycle_, head_); }
  struct Record {
    std::uint64_t sequence = 0;
    std::uint32_t operations = 0;
    Buffer data;
  };
  /// From tail to head; none when it is at rest. Throws damaged (a record in between whose checksum
  /// does not hold), unsupported (another byte order).
  void for_each_record(const std::function<void(const Record&)>& visit) const;

  /// Puts one record behind the head that leaves nothing to be done, and makes sure that nothing
  /// stale behind it is taken for more. `ends`: it says that the filesystem was unmounted;
  /// otherwise the guest looks into what only it can finish.
  void close(bool ends);

 private:
  struct Found {
    LogRecord header{};
    std::uint64_t sector = 0;
    std::uint32_t headers = 0;
    std::uint64_t sectors = 0;  // all of it
  };

  std::uint64_t at(std::uint64_t sector) const { return start_ + sector % sectors_ * basic_block; }
  std::uint32_t cycle(std::uint64_t sector) const;
  void find_head();
  std::uint64_t torn_at(std::uint64_t from, std::uint64_t to, std::uint32_t cycle,
                        std::uint64_t otherwise) const;
  std::uint64_t record_before(std::uint64_t sector) const;
  void drop_incomplete();
  void find_tail();
  Found look(std::uint64_t sector) const;
  Buffer read_sectors(std::uint64_t sector, std::uint64_t count) const;
  bool sum_is_right(const Found& found) const;
  std::uint64_t distance(std::uint64_t from, std::uint64_t to) const {
    return (to + sectors_ - from % sectors_) % sectors_;
  }
  LogRecord header_of(std::uint64_t sector, std::uint32_t cycle, std::uint64_t tail) const;

  Store& place_;
  const Geometry& geometry_;
  std::uint64_t start_;
  std::uint64_t sectors_;
  std::uint64_t head_ = 0;        // the first sector that the newest record does not have
  std::uint32_t head_cycle_ = 1;  // what is written there next gets it
  std::uint64_t tail_ = 0;        // sector
  std::uint32_t tail_cycle_ = 1;
  bool at_rest_ = false;
};

}  // namespace jh::xfs
