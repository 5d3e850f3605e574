// Compact into a new image of the same form: only what is used is written.
#pragma once

#include <optional>
#include <string>

#include "core/compact/compact.h"

namespace jh {

/// Writes what is used of the disk into a new image, of the same form unless another one is asked
/// for, by `form` or by the ending of its name; the old one is only read.
CompactFigures compact_into(Host& host, const Guest& guest, std::size_t disk,
                            const std::string& out, std::optional<ImageFormat> format,
                            Sharing sharing, Progress& progress);

}  // namespace jh
