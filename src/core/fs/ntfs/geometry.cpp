#include "core/fs/ntfs/geometry.h"

#include <fmt/format.h>

#include "core/base/sizes.h"

namespace jh::ntfs {
namespace {

constexpr const char* in_boot_sector = "NTFS boot sector";

std::uint32_t size_of(std::int8_t field, std::uint64_t cluster_size, const char* what) {
  std::uint64_t size = 0;
  if (field > 0)
    size = cluster_size * static_cast<std::uint64_t>(field);
  else if (field < 0 && field >= -31)
    size = std::uint64_t{1} << -field;
  if (!is_power_of_two(size) || size < fixup_sector || size > (1U << 20))
    damaged(fmt::format("the size of {} on record is none that exists", what), in_boot_sector);
  return static_cast<std::uint32_t>(size);
}

}  // namespace

Geometry Geometry::with_sectors(std::uint64_t count) const {
  Geometry changed = *this;
  changed.sectors = count;
  changed.clusters = count / (cluster_size / sector_size);
  if (changed.clusters > most_clusters)
    refuse(fmt::format("NTFS counts clusters with 32 bits: with clusters of {} it ends at {}",
                       human(Bytes(cluster_size)),
                       spelled_out(Bytes(most_clusters * cluster_size + sector_size))),
           "NTFS", "ask for no more than that; larger clusters need the volume made anew");
  return changed;
}

Geometry read_geometry(Store& place) {
  const auto boot = read_as<BootSector>(place, 0);
  Geometry g;
  g.sector_size = boot.bytes_per_sector.value();
  if (!is_power_of_two(g.sector_size) || g.sector_size < 256 || g.sector_size > 4096)
    damaged(fmt::format("{} bytes per sector are on record", g.sector_size), in_boot_sector);
  const std::uint32_t field = boot.sectors_per_cluster;
  std::uint64_t per_cluster = field;
  if (field > 128) per_cluster = 256 - field < 20 ? std::uint64_t{1} << (256 - field) : 0;
  g.cluster_size = per_cluster * g.sector_size;
  if (!is_power_of_two(per_cluster) || g.cluster_size > (2U << 20))
    damaged(fmt::format("clusters of {} sectors are on record", field), in_boot_sector);
  if (boot.reserved_sectors.value() != 0 || boot.unused_sectors_per_fat.value() != 0)
    damaged("fields that must be zero are not", in_boot_sector);
  g.record_size = size_of(boot.clusters_per_record, g.cluster_size, "file records");
  g.index_block_size = size_of(boot.clusters_per_index_block, g.cluster_size, "index blocks");
  g.sectors = boot.sectors.value();
  if (g.sectors >= place.size() / g.sector_size)
    damaged(fmt::format("it says that it has {} sectors, and its place has {}", g.sectors,
                        place.size() / g.sector_size),
            in_boot_sector, "the image, or the partition, may have been cut");
  g.clusters = g.sectors / per_cluster;
  if (g.clusters == 0 || g.clusters > most_clusters)
    damaged(fmt::format("{} clusters are on record", g.clusters), in_boot_sector);
  g.mft_cluster = boot.mft_cluster.value();
  g.mirror_cluster = boot.mirror_cluster.value();
  if (g.mft_cluster >= g.clusters || g.mirror_cluster >= g.clusters)
    damaged("the file table is said to lie behind the end", in_boot_sector);
  return g;
}

}  // namespace jh::ntfs
