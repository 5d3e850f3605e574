// Whether a volume is at rest, and what stands in the way of a change.
#pragma once

#include "core/fs/ntfs/filesystem.h"

namespace jh::ntfs {

/// What must be done in the guest first; each with a reason code, and with the way out.
std::vector<Error> find_blockers(Filesystem& fs);

/// Copies of earlier states that the guest keeps: they are found by position, and need what was
/// free then as it was.
bool has_shadow_copies(Filesystem& fs);

}  // namespace jh::ntfs
