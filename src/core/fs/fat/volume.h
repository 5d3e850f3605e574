// A FAT volume: its geometry, its table of clusters, its folders.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "core/fs/fat/format.h"
#include "core/store/store.h"

namespace jh::fat {

enum class Width { bits12 = 12, bits16 = 16, bits32 = 32 };

struct Geometry {
  Width width = Width::bits16;
  std::uint32_t sector_size = 0;
  std::uint64_t cluster_size = 0;
  std::uint64_t sectors = 0;   // of the volume
  std::uint32_t clusters = 0;  // numbered from 2 on
  std::uint32_t tables = 0;
  std::uint32_t first_table = 0;  // the one that counts
  bool copies_are_kept = true;
  std::uint64_t table_at = 0;     // bytes of the place
  std::uint64_t table_bytes = 0;  // of each
  std::uint64_t root_at = 0;      // of FAT12 and FAT16
  std::uint64_t root_bytes = 0;
  std::uint64_t data_at = 0;
  std::uint32_t root_cluster = 0;    // of FAT32
  std::uint64_t information_at = 0;  // 0: none

  std::uint64_t size() const { return sectors * sector_size; }
  std::uint64_t offset(std::uint32_t cluster) const {
    return data_at + std::uint64_t{cluster - first_cluster} * cluster_size;
  }
  bool is_cluster(std::uint32_t number) const {
    return number >= first_cluster && number - first_cluster < clusters;
  }
};

/// Throws damaged.
Geometry read_geometry(Store& place);

class Volume {
 public:
  /// Throws damaged.
  explicit Volume(Store& store) : store_(&store), g_(read_geometry(store)) {}

  Store& store() { return *store_; }
  const Geometry& geometry() const { return g_; }

  /// What the table says of a cluster: the next one, or one of the marks below.
  static constexpr std::uint32_t unused = 0;
  static constexpr std::uint32_t bad_mark = 0x0FFFFFF7;
  static constexpr std::uint32_t end_mark = 0x0FFFFFF8;  // and above
  std::uint32_t next(std::uint32_t cluster);
  /// Entry 1: cleared bits say that it was not unmounted, or that reading failed.
  bool is_marked_clean();

  struct File {
    std::string name;        // the long one, or else the short one
    std::string short_name;  // "BOOTX64.EFI"
    bool folder = false;
    std::uint32_t cluster = 0;  // 0: empty, or (of "..") the root
    std::uint32_t size = 0;
    bool is_proper = true;  // the short name has no letters that it must not have
  };
  /// Entries of a folder; cluster 0: the root. Labels and removed ones are left out. Throws
  /// damaged.
  void for_each_file(std::uint32_t folder, const std::function<bool(const File&)>& visit);
  /// The clusters of a chain. Throws damaged: it leaves the volume, or does not end.
  std::vector<std::uint32_t> chain(std::uint32_t first);
  /// By path, capital or not. Nothing: there is none.
  std::optional<File> find(const std::string& path);
  std::string label();

 private:
  Buffer folder_bytes(std::uint32_t folder);

  Store* store_;
  Geometry g_;
  Buffer window_;  // of the table
  std::uint64_t window_at_ = UINT64_MAX;
};

}  // namespace jh::fat
