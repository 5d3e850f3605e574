// Layout: which chunks there are, where they lie and what is in them; tried out before a change.
#pragma once

#include <map>
#include <vector>

#include "core/base/ranges.h"
#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

struct ExtentMove {
  std::uint64_t from = 0;  // logical
  std::uint64_t to = 0;
  std::uint64_t length = 0;
};

struct ChunkMove {
  std::uint64_t chunk = 0;  // its logical address
  std::size_t copy = 0;
  std::uint64_t from = 0;  // bytes of the device
  std::uint64_t to = 0;
  std::uint64_t length = 0;
};

/// The way to a smaller size: some chunks are emptied into others and go, then copies of those that
/// lie behind the end move into room that no chunk takes.
struct Shrinking {
  std::uint64_t size = 0;
  std::vector<std::uint64_t> emptied;  // logical addresses of chunks
  std::vector<ExtentMove> extents;     // out of them; ascending
  std::vector<ChunkMove> copies;
  std::uint64_t to_move = 0;  // bytes
};

class Layout {
 public:
  /// Reads the tree of extents. Memory: 8 bytes for each of them.
  explicit Layout(const Volume& volume);

  /// Nothing: there is no way.
  std::optional<Shrinking> plan(std::uint64_t size) const;
  /// The smallest size with a way to it.
  std::uint64_t least() const;

 private:
  struct HeldExtent {
    std::uint32_t start = 0;  // sectors from the chunk's beginning
    std::uint32_t count = 0;
  };
  struct Held {
    Chunk chunk;
    std::vector<HeldExtent> pieces;  // extents, ascending
    std::uint64_t used = 0;          // sectors
  };
  class Trial;

  const Volume& volume_;
  bool may_empty_;
  std::map<std::uint64_t, Held> chunks_;
  std::uint64_t sector_;
};

}  // namespace jh::btrfs
