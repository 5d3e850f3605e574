// An inode of the log, as it is to stand on disk.
#pragma once

#include "core/fs/xfs/log_format.h"
#include "core/fs/xfs/log_transaction.h"

namespace jh::xfs {

/// Puts what the log says of an inode over `bytes`, what is on disk in its place (an inode's size),
/// but for its checksum. Throws damaged where the log's item cannot be one.
void put_logged_inode(const LoggedItem& item, const LoggedInode& logged, std::uint64_t sequence,
                      Buffer& bytes);

}  // namespace jh::xfs
