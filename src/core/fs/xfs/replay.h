// Replay: the items of the log's transactions, written where they belong.
#pragma once

#include "core/fs/xfs/log_transaction.h"

namespace jh::xfs {

struct ReplayReport {
  std::uint64_t transactions = 0;
  std::uint64_t buffers = 0;  // written home
  std::uint64_t inodes = 0;
  std::uint64_t bytes = 0;  // of both
};

/// Whether the log holds anything but transactions without items.
bool holds_items(const Log& log);
/// Writes home what the log's transactions hold and is not there yet. Throws unsupported (work that
/// was begun and only the guest can finish, unknown items), damaged; then parts may be written.
ReplayReport replay(Store& place, const Geometry& geometry, const Log& log);

}  // namespace jh::xfs
