// Which target is meant when none is named.
#pragma once

#include "core/plan/grow_disk.h"

namespace jh {

/// The one place that room is usually meant for. `disk_size`: of the disk that is to become larger,
/// afterwards. Throws refused when several can be meant, or none, with commands to paste.
const Layer& only_target(const Guest& guest, const GrowRequest& request, Bytes disk_size);

}  // namespace jh
