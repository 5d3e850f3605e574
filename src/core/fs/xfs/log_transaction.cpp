#include "core/fs/xfs/log_transaction.h"

#include <fmt/format.h>

#include "core/fs/xfs/log_format.h"

namespace jh::xfs {
namespace {

// Of transactions that are not committed yet: the guest gives one a share of the log only.
constexpr std::uint64_t most_pending = 256U << 20;
constexpr std::size_t most_regions = 4096;

struct Pending {
  LoggedTransaction made;
  Buffer header;             // TransactionHeader, which may come in pieces
  std::size_t expected = 0;  // regions of the last item
  std::uint64_t bytes = 0;
};

[[noreturn]] void torn() { corrupt("a transaction in the log is not what it says it is"); }

class Assembly {
 public:
  explicit Assembly(const std::function<void(const LoggedTransaction&)>& visit) : visit_(visit) {}

  void take(const Log::Record& record) {
    ConstByteSpan rest = record.data;
    for (std::uint32_t i = 0; i < record.operations; ++i) {
      if (rest.size() < sizeof(LogOperation)) torn();
      const auto operation = parse_as<LogOperation>(rest, 0);
      rest = rest.subspan(sizeof(LogOperation));
      const std::uint32_t length = operation.length.value();
      if (rest.size() < length ||
          (operation.client != log_client::transaction && operation.client != log_client::log))
        torn();
      act(operation, record.sequence, rest.first(length));
      rest = rest.subspan(length);
    }
  }

 private:
  void act(const LogOperation& operation, std::uint64_t sequence, ConstByteSpan bytes) {
    const std::uint32_t number = operation.transaction.value();
    auto found = pending_.find(number);
    if ((operation.flags & log_flag::start) != 0) {
      if (found != pending_.end()) forget(found);
      pending_[number].made.sequence = sequence;
      return;
    }
    // It began in front of the tail: all of it is where it belongs.
    if (found == pending_.end()) return;
    Pending& pending = found->second;
    if ((operation.flags & log_flag::commit) != 0) {
      if (!pending.made.items.empty() &&
          pending.made.items.back().regions.size() != pending.expected)
        torn();
      visit_(pending.made);
      forget(found);
    } else if ((operation.flags & log_flag::unmount) != 0) {
      forget(found);
    } else if ((operation.flags & log_flag::went_on) != 0) {
      lengthen(pending, bytes);
    } else {
      add(pending, bytes);
    }
  }

  void forget(std::map<std::uint32_t, Pending>::iterator which) {
    bytes_ -= which->second.bytes;
    pending_.erase(which);
  }

  void count(Pending& pending, ConstByteSpan bytes) {
    pending.bytes += bytes.size();
    bytes_ += bytes.size();
    if (bytes_ > most_pending)
      unsupported("the log holds larger transactions than are replayed here", "XFS, log",
                  "start the guest and shut it down properly, then run again");
  }

  bool takes_header(Pending& pending, ConstByteSpan bytes) {
    if (pending.header.size() >= sizeof(TransactionHeader)) return false;
    pending.header.insert(pending.header.end(), bytes.begin(), bytes.end());
    if (pending.header.size() > sizeof(TransactionHeader)) torn();
    if (pending.header.size() == sizeof(TransactionHeader) &&
        parse_as<TransactionHeader>(pending.header, 0).magic.value() != transaction_magic)
      torn();
    return true;
  }

  void add(Pending& pending, ConstByteSpan bytes) {
    if (bytes.empty()) return;
    count(pending, bytes);
    if (takes_header(pending, bytes)) return;
    auto& items = pending.made.items;
    if (items.empty() || items.back().regions.size() == pending.expected) {
      items.emplace_back();
      if (bytes.size() < 4) torn();
      pending.expected = parse_as<Le16>(bytes, 2).value();
      if (pending.expected == 0 || pending.expected > most_regions) torn();
    }
    items.back().regions.emplace_back(bytes.begin(), bytes.end());
  }

  // The rest of a region that did not fit in its record.
  void lengthen(Pending& pending, ConstByteSpan bytes) {
    count(pending, bytes);
    if (takes_header(pending, bytes)) return;
    if (pending.made.items.empty()) torn();
    Buffer& region = pending.made.items.back().regions.back();
    region.insert(region.end(), bytes.begin(), bytes.end());
  }

  const std::function<void(const LoggedTransaction&)>& visit_;
  std::map<std::uint32_t, Pending> pending_;
  std::uint64_t bytes_ = 0;
};

}  // namespace

LogItem LoggedItem::head() const {
  Buffer bytes = regions.front();
  bytes.resize(std::max(bytes.size(), sizeof(LogItem)));
  return parse_as<LogItem>(bytes, 0);
}

void for_each_transaction(const Log& log,
                          const std::function<void(const LoggedTransaction&)>& visit) {
  Assembly assembly(visit);
  log.for_each_record([&](const Log::Record& record) { assembly.take(record); });
}

}  // namespace jh::xfs
