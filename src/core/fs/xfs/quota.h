// Quota: what the guest has counted for each user, group and project.
#pragma once

#include <array>
#include <map>

#include "core/base/findings.h"
#include "core/fs/xfs/inode.h"

namespace jh::xfs {

class QuotaCounts {
 public:
  /// An inode in use, with the blocks it has.
  void note(const Superblock& super, std::uint64_t number, const Inode& core);
  /// Compares with the records of those kinds whose counts the guest vouches for.
  void compare(Store& place, const Geometry& geometry, Findings& findings) const;

 private:
  struct Used {
    std::uint64_t blocks = 0;
    std::uint64_t inodes = 0;
    bool operator==(const Used&) const = default;
  };
  using ById = std::map<std::uint32_t, Used>;

  std::array<ById, 3> used_;  // of users, groups, projects
};

}  // namespace jh::xfs
