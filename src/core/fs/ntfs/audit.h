// Is an NTFS volume consistent? Reads only.
#pragma once

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/filesystem.h"
#include "core/fs/ntfs/filesystem.h"

namespace jh::ntfs {

/// `structure`: what a growth can touch; clusters from byte `from` on must be in use by the
/// volume's own files or free. `full`: all records, all folders, every cluster.
void audit(Filesystem& fs, AuditScope scope, Bytes from, Findings& findings, Progress& progress);

/// What must be the same of the files that the tree passes over. `content_moves`: they may lie
/// elsewhere.
void audit_kept(Filesystem& before, Filesystem& after, bool content_moves, Findings& findings);

}  // namespace jh::ntfs
