// One line that shows where on the disk everything lies.
#pragma once

#include <string>

#include "core/guest/guest.h"

namespace jh::cli {

/// Three lines: a ruler of partitions and gaps to scale, its content, and a closing rule.
std::string disk_picture(const Guest& guest, const Disk& disk, std::size_t width);

}  // namespace jh::cli
