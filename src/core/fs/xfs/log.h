// Log: whether the guest has put away what it holds.
#pragma once

#include "core/fs/xfs/geometry.h"

namespace jh::xfs {

/// True when the newest record of the log says that the filesystem was unmounted, or the log was
/// never written to. Reads a few sectors. Throws damaged when no record is found where one must be.
bool log_is_at_rest(Store& place, const Geometry& geometry);

}  // namespace jh::xfs
