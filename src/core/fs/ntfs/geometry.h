// What the boot sector says: sizes of everything, checked.
#pragma once

#include "core/fs/ntfs/format.h"
#include "core/store/store.h"

namespace jh::ntfs {

struct Geometry {
  std::uint32_t sector_size = 0;
  std::uint64_t cluster_size = 0;      // bytes, a power of two
  std::uint32_t record_size = 0;       // bytes
  std::uint32_t index_block_size = 0;  // bytes
  std::uint64_t sectors = 0;           // without the copy of the boot sector
  std::uint64_t clusters = 0;
  std::uint64_t mft_cluster = 0;
  std::uint64_t mirror_cluster = 0;

  std::uint64_t offset(std::uint64_t cluster) const { return cluster * cluster_size; }
  /// Bytes of the place it takes, the boot sector's copy included.
  std::uint64_t size() const { return (sectors + 1) * sector_size; }
  /// The same with another number of sectors. Throws refused beyond the limit of clusters.
  Geometry with_sectors(std::uint64_t sectors) const;
  /// Bytes of its cluster bitmap: whole words of 64 bits.
  std::uint64_t bitmap_bytes() const { return ceil_div(clusters, 64) * 8; }
};

/// More cannot be numbered.
constexpr std::uint64_t most_clusters = 0xFFFFFFFF;

/// Throws damaged, unsupported.
Geometry read_geometry(Store& place);

}  // namespace jh::ntfs
