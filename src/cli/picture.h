// One line that shows where on the disk everything lies.
#pragma once

#include <string>

#include "core/guest/guest.h"

namespace jh::cli {

/// Two lines: names, and a bar with partitions and gaps to scale (dark: in use; dots: room that no
/// partition holds).
std::string disk_picture(const Guest& guest, const Disk& disk, std::size_t width);

}  // namespace jh::cli
