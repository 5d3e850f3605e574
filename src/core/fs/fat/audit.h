// Is a FAT volume consistent? Reads only.
#pragma once

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/fat/volume.h"

namespace jh::fat {

/// Both tables, chains, lost and shared clusters, sizes, the information sector.
void audit(Volume& volume, Findings& findings, Progress& progress);

}  // namespace jh::fat
