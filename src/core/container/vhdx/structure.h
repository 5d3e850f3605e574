// The parts of a VHDX image that say where everything else is: headers, region tables, metadata.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/container/vhdx/format.h"
#include "core/store/store.h"

namespace jh::vhdx {

struct Region {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
};

struct Structure {
  Header header{};       // the one in force
  std::size_t slot = 0;  // which of the two it is
  Region bat;
  Region metadata;
  std::vector<RegionEntry> regions;
  std::vector<MetadataEntry> items;
  std::uint64_t block_size = 0;
  std::uint32_t flags = 0;
  std::uint64_t disk_size = 0;
  std::uint64_t sector = 512;
  std::uint64_t physical_sector = 512;
  Uuid disk_id{};
  std::string parent_linkage;             // identity of the parent's content
  std::vector<std::string> parent_names;  // as written
  std::vector<std::string> notes;         // copies that are damaged

  std::uint64_t chunk_ratio() const { return (std::uint64_t{1} << 23) * sector / block_size; }
  std::uint64_t blocks() const { return ceil_div(disk_size, block_size); }
  /// Entries of the BAT for a disk of this size.
  std::uint64_t entries_for(std::uint64_t size) const;
  std::uint64_t entry_of(std::uint64_t block) const { return block + block / chunk_ratio(); }
};

/// The header in force: of the two, the sound one with the greater number.
Header read_headers(Store& file, Structure& structure);
/// Regions and metadata, as they are once the log is replayed.
void read_tables(Store& file, Structure& structure);

/// Writes both headers, each with the next number and its sum.
void write_headers(Store& file, Structure& structure);
/// Writes both region tables.
void write_regions(Store& file, const Structure& structure);
/// Writes an item's bytes where the metadata has it.
void write_item(Store& file, const Structure& structure, const Uuid& item, ConstByteSpan value);

}  // namespace jh::vhdx
