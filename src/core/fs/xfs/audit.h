// Audit: headers, trees and counts; in full every inode, who owns each block, names and links.
#pragma once

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/xfs/group.h"
#include "core/fs/xfs/log.h"

namespace jh::xfs {

/// Headers and trees of the groups from `first_group` on, headers of the others, all copies and
/// checksums. `newest`: of what they say they were written by.
void audit_structure(Store& place, const Geometry& geometry, std::uint32_t first_group,
                     NewestSequence& newest, Findings& findings, Progress& progress);
/// What lies behind the structure. Memory: what is not merged of the ranges that have owners, and
/// 64 bytes for each inode.
void audit_content(Store& place, const Geometry& geometry, NewestSequence& newest,
                   Findings& findings, Progress& progress);

}  // namespace jh::xfs
