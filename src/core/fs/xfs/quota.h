// Quota: what the guest has counted for each user, group and project.
#pragma once

#include <array>
#include <functional>
#include <map>
#include <optional>
#include <string>

#include "core/base/findings.h"
#include "core/fs/xfs/inode.h"

namespace jh::xfs {

/// The files with the records of each kind, as far as they are there.
std::vector<std::uint64_t> quota_inodes(const Superblock& super);

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

/// Blocks that files of each user, group and project have more (or, modulo 2^64, fewer).
using QuotaChanges = std::array<std::map<std::uint32_t, std::uint64_t>, 3>;
/// Adds them to the records of those kinds whose counts the guest vouches for; `renumbered` says
/// where the inodes with the records are now.
void change_quota(Store& place, const Geometry& geometry,
                  const std::function<std::uint64_t(std::uint64_t)>& renumbered,
                  const QuotaChanges& changes);
/// Two states of the records must not differ but in counts of blocks. Gives back the kind that
/// does, or nothing.
std::optional<std::string> changed_quota(Store& before, const Geometry& geometry_before,
                                         Store& after, const Geometry& geometry_after);

}  // namespace jh::xfs
