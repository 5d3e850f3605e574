// The states that an image's files keep of one disk: what it builds on, its own snapshots, and what
// the guest sees now.
#pragma once

#include <string>
#include <vector>

#include "core/container/container.h"

namespace jh {

struct DiskState {
  enum class Kind { parent, active, snapshot };
  Kind kind = Kind::active;
  unsigned level = 0;         // of the tree; the oldest image has 0, its snapshots 1
  std::string name;           // an image's path, a snapshot's name
  std::string id;             // of a snapshot
  std::uint64_t made_at = 0;  // of a snapshot, seconds since 1970
  Bytes disk_size;
  Bytes memory;                        // saved with it
  std::optional<std::uint64_t> alone;  // bytes that would be free without it; an image: its length
};

/// The oldest first; an image comes before its snapshots, and before the one that builds on it.
std::vector<DiskState> states_of(ImageReader& image, const std::string& path);

}  // namespace jh
