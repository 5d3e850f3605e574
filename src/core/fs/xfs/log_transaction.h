// Transactions: what the log's records say, put together again.
#pragma once

#include <functional>
#include <map>
#include <vector>

#include "core/fs/xfs/log.h"
#include "core/fs/xfs/log_format.h"

namespace jh::xfs {

/// One item of a transaction: what kind it is stands in its first region.
struct LoggedItem {
  std::vector<Buffer> regions;
  LogItem head() const;
};

struct LoggedTransaction {
  std::uint64_t sequence = 0;  // of the record in which it began
  std::vector<LoggedItem> items;
};

/// Calls visit for each transaction that was committed, in that order; what was not is passed over.
/// Throws damaged, unsupported (more at one time than memory is given for).
void for_each_transaction(const Log& log,
                          const std::function<void(const LoggedTransaction&)>& visit);

}  // namespace jh::xfs
