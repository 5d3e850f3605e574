// The kinds of tables: who adds one adds it here.
#include "core/table/gpt/gpt.h"
#include "core/table/mbr/mbr.h"

namespace jh {

std::unique_ptr<PartitionTable> open_table(Store& disk, std::uint32_t sector_size) {
  if (disk.size() < 2 * 512) return nullptr;
  if (auto gpt = open_gpt(disk, sector_size)) return gpt;
  return open_mbr(disk, sector_size);
}

std::unique_ptr<PartitionTable> make_table(Store& disk, TableKind kind, std::uint32_t sector_size) {
  return kind == TableKind::gpt ? make_gpt(disk, sector_size) : make_mbr(disk, sector_size);
}

NewPartition only_partition(TableKind kind, std::uint32_t sector_size, Bytes disk_size) {
  const auto [first, end] = kind == TableKind::gpt ? usable_by_new_gpt(disk_size, sector_size)
                                                   : usable_by_new_mbr(disk_size, sector_size);
  const std::uint64_t unit = partition_alignment / sector_size;
  const Sectors from(round_up(first.value(), unit));
  const Sectors to(round_down(end.value(), unit));
  if (to <= from)
    refuse("the disk has no room for a new partition", kind_name(kind), "use at least 4 MiB");
  return {1, PartitionRole::primary, from, to};
}

}  // namespace jh
