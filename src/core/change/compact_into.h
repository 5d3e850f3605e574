// Compact into a new image of the same form: only what is used is written.
#pragma once

#include <string>

#include "core/compact/compact.h"

namespace jh {

/// Writes what is used of the disk into a new image of the same form; the old one is only read.
CompactFigures compact_into(Host& host, const Guest& guest, std::size_t disk,
                            const std::string& out, Progress& progress);

}  // namespace jh
