// Is an ext filesystem sound? Everything is read from disk again; nothing that wrote it is asked.
#pragma once

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/ext/filesystem.h"
#include "core/fs/filesystem.h"

namespace jh::ext {

using jh::AuditScope;

struct AuditRequest {
  AuditScope scope = AuditScope::full;
  std::uint32_t first_group = 0;  // structure: bitmaps are checked from this group on
};

/// Memory: two bits per block and about 14 bytes per inode in use.
void audit(Filesystem& fs, const AuditRequest& request, Findings& findings, Progress& progress);

/// What must not differ after a change of size: the superblock but for its sizes, and the inodes
/// that serve the filesystem itself. `blocks_move`: the trees are compared anyway.
void audit_kept(Filesystem& before, Filesystem& after, bool blocks_move, Findings& findings);

}  // namespace jh::ext
