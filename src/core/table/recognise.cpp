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

}  // namespace jh
