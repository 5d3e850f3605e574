// The overview of one guest image, with what only a plan knows of it: room and floor.
#pragma once

#include "core/guest/overview.h"

namespace jh {

/// Of a guest with one disk.
ImageOverview overview_of(const Guest& guest);

}  // namespace jh
