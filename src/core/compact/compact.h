// Compact: the same disk in a smaller file. What no layer uses, and what is zero, gives its room
// back; nothing has to be done inside the guest before.
#pragma once

#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/guest/unused.h"
#include "core/store/host.h"
#include "core/store/transfer.h"

namespace jh {

struct CompactFigures {
  std::uint64_t length_before = 0;  // of the file
  std::uint64_t length_after = 0;
  struct Source {
    std::string name;
    std::uint64_t bytes = 0;  // that had a place and lose it
  };
  std::vector<Source> given_back;  // also zeros, and what the parent has
  std::vector<std::string> files;  // that hold the result
  std::uint64_t to_move = 0;       // bytes, within the file
  std::uint64_t shared = 0;        // of those, by sharing blocks of the host
  Transferred content;             // of a new image
  std::vector<std::string> notes;
};

/// What compacting the disk in place would do at least; reads tables only, but of an image that
/// builds on another, of which it says what will be done to the byte. Throws refused or
/// unsupported, with the way out, for images that cannot be compacted in place.
CompactFigures plan_compact(Host& host, const Guest& guest, std::size_t disk, Progress& progress);

/// Compacts in place, in sealed steps: whenever it ends, the image is sound and holds the same.
/// `zero_free`: what is not used is zero afterwards, also where it keeps its place.
CompactFigures compact_in_place(Host& host, const Guest& guest, std::size_t disk, bool zero_free,
                                Sharing sharing, Progress& progress);

}  // namespace jh
