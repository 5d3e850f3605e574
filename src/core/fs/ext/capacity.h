// Would a filesystem's content fit, were it smaller? Counted from descriptors and bitmaps alone.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

class Capacity {
 public:
  explicit Capacity(Filesystem& fs);

  /// What is left when the filesystem has at most so many blocks: whole clusters, and no last group
  /// too small for its own metadata. Nothing: so few cannot be a filesystem.
  std::optional<Geometry> shrunk(std::uint64_t blocks) const;
  /// Empty when all content fits; otherwise what stands in the way.
  std::string obstacle(const Geometry& after);
  /// Content at or behind the end, in blocks; metadata that goes with its group is not counted.
  std::uint64_t blocks_behind(const Geometry& after);
  std::uint32_t inodes_behind(const Geometry& after) const;

 private:
  struct Runs {
    std::uint32_t count = 0;   // of free clusters in a row
    std::uint32_t tables = 0;  // inode tables that would fit into them
  };

  std::uint64_t metadata_clusters(const Geometry& g) const;
  const Runs& runs_of(std::uint32_t group);
  std::uint64_t most_pieces(const Geometry& after, std::uint64_t moved);
  std::uint32_t tables_behind(const Geometry& after) const;

  Filesystem& fs_;
  const Geometry g_;
  std::uint64_t used_clusters_ = 0;
  std::uint64_t used_inodes_ = 0;
  std::uint32_t last_inode_group_ = 0;  // the last one with an inode in use
  std::vector<std::optional<Runs>> runs_;
};

}  // namespace jh::ext
