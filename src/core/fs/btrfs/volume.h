// Volume: a filesystem, opened: all its chunks are known, and its trees by their numbers.
#pragma once

#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {

class Volume final : public Blocks {
 public:
  static bool recognise(Store& place);
  /// Reads superblock and chunks. Throws damaged, unsupported (features, several devices,
  /// profiles), each by name.
  explicit Volume(Store& place) : Blocks(place) { read_again(); }
  /// For a change: superblock and chunks as they are now.
  void read_again();
  /// By the number of the tree; nothing: there is none.
  std::optional<Root> tree(std::uint64_t number) const;
};

}  // namespace jh::btrfs
