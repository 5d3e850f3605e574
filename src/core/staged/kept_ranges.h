// What of a place is worth copying, and comparing, when it moves as a whole.
#pragma once

#include "core/base/ranges.h"
#include "core/guest/content.h"

namespace jh {

/// Ranges of the first `length` bytes of a place with this content: all of it, but for what a swap
/// area or the like has free.
inline Ranges kept_when_moved(const Content& content, std::uint64_t length) {
  Ranges kept;
  add_range(kept, 0, length);
  if (content.moves_without_free())
    content.on_disk()->for_each_free([&](std::uint64_t start, std::uint64_t end) {
      end = std::min(end, length);
      if (start < end) remove_range(kept, start, end);
    });
  return kept;
}

}  // namespace jh
