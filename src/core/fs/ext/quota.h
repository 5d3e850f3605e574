// What the files of an owner take up, as the quota files inside the filesystem keep it.
#pragma once

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

/// By how many bytes, and how many inodes, the files of these owners have become more or fewer.
struct UsageChange {
  std::uint32_t user = 0;
  std::uint32_t group = 0;
  std::uint32_t project = 0;
  std::int64_t bytes = 0;
  std::int64_t inodes = 0;
};

/// Whom an inode is counted for, with nothing changed.
UsageChange owner_of(const Geometry& g, const InodeRecord& inode);
/// Adds the change to each quota file there is. An owner on no record stays so. Throws damaged.
void change_usage(Filesystem& fs, const UsageChange& change);

}  // namespace jh::ext
