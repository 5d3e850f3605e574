// What the header of a qcow2 image, its extensions and its list of snapshots say.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/container/container.h"
#include "core/container/qcow2/format.h"

namespace jh::qcow2 {

/// Bytes of tables that are kept in memory, and as many of counts: writes go through, so forgetting
/// them costs only reading them again.
constexpr std::uint64_t most_cached = 4U << 20;

/// A table of a snapshot, or of the active state.
struct L1Place {
  std::uint64_t offset = 0;
  std::uint64_t entries = 0;
};

/// Where a compressed cluster lies ("Compressed Clusters Descriptor").
struct CompressedPlace {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;  // at most; the compressed bytes may end before
};
/// From this bit of an entry on stands the number of further sectors.
constexpr std::uint32_t compressed_split(std::uint32_t cluster_bits) {
  return 62 - (cluster_bits - 8);
}
inline CompressedPlace compressed_place(std::uint64_t entry, std::uint32_t cluster_bits) {
  const std::uint32_t split = compressed_split(cluster_bits);
  const std::uint64_t offset = entry & ((std::uint64_t{1} << split) - 1);
  const std::uint64_t sectors = (entry & ~(copied | compressed_bit)) >> split;
  return {offset, (sectors + 1) * 512 - offset % 512};
}

struct Image {
  Header raw{};  // as on disk; fields of version 3 filled in for version 2
  std::uint32_t version = 3;
  std::uint32_t cluster_bits = 16;
  std::uint64_t size = 0;  // bytes of the disk
  std::uint32_t refcount_bits = 16;
  bool zstd = false;
  std::string backing;    // the parent's name as written; empty: none
  std::string data_file;  // of external data; empty: none
  std::vector<Snapshot> snapshots;
  std::vector<L1Place> snapshot_tables;
  std::uint64_t snapshot_list_size = 0;  // bytes
  std::optional<BitmapsExtension> bitmaps;
  std::optional<EncryptionPointer> encryption;

  std::uint64_t cluster() const { return std::uint64_t{1} << cluster_bits; }
  bool has(std::uint64_t feature) const { return (raw.incompatible.value() & feature) != 0; }
  std::uint64_t entry_size() const { return has(incompatible::extended_l2) ? 16 : 8; }
  std::uint64_t entries_per_table() const {
    return std::uint64_t{1} << (cluster_bits - (has(incompatible::extended_l2) ? 4 : 3));
  }
  /// Bytes of the disk that one L2 table speaks of.
  std::uint64_t reach_of_table() const { return entries_per_table() * cluster(); }
  std::uint64_t tables_for(std::uint64_t disk_size) const {
    return ceil_div(disk_size, reach_of_table());
  }
};

}  // namespace jh::qcow2
