// MBR: four primary partitions, one of which may be extended and hold a chain of logical ones.
#pragma once

#include "core/table/mbr/format.h"
#include "core/table/table.h"

namespace jh {

class MbrTable final : public PartitionTable {
 public:
  MbrTable(Store& disk, std::uint32_t sector_size);
  Ranges own_places() const override;
  Sectors usable_end_on(Bytes disk_size) const override;
  NewPartition place_new(const std::vector<Partition>& among, Bytes disk_size) const override;
  void create(Store& disk, const NewPartition& partition, const Uuid& id) override;
  void cover_disk(Store& disk) override;
  void move_end(Store& disk, std::uint32_t number, Sectors new_end) override;
  void move(Store& disk, std::uint32_t number, Sectors first, Sectors end) override;
  void move_chain(Store& disk, const NewPlace& extended,
                  const std::vector<NewPlace>& logical) override;
  void repair(Store&) override {}
  void audit(Store& disk, Findings& findings) override;

 private:
  // Where on the disk a partition's entry stands.
  struct Slot {
    std::uint64_t record_lba = 0;
    std::size_t index = 0;
    std::uint64_t base_lba = 0;  // what the entry's start is relative to
    // The link entry, in the record before, that describes this one's part of the extended
    // partition; only for logical partitions behind the first.
    std::uint64_t link_lba = 0;
    bool has_link = false;
    mbr::Record record{};  // of a logical partition, as it was read
  };
  struct Geometry {
    std::uint32_t heads = 0;  // 0: not known, addresses beyond its reach are marked so
    std::uint32_t sectors = 0;
  };

  void read_chain(Store& disk, const Partition& extended);
  void find_geometry(const mbr::Record& record);
  mbr::Chs chs_of(std::uint64_t lba) const;
  void add(std::uint32_t number, PartitionRole role, const mbr::Entry& entry, Slot slot);
  void set_limits(Store& disk);
  NewPartition place_logical(const std::vector<Partition>& among, Sectors usable_end) const;
  void create_logical(Store& disk, const NewPartition& partition);
  void write_entry(Store& disk, std::uint64_t record_lba, std::size_t index, std::uint64_t base_lba,
                   std::uint8_t type, std::uint64_t first, std::uint64_t end);
  Slot& slot_of(std::uint32_t number);
  mbr::Entry entry_at(mbr::Entry known, std::uint64_t base_lba, std::uint64_t first,
                      std::uint64_t end) const;
  void write_end(Store& disk, const Slot& slot, std::size_t index, std::uint64_t first,
                 std::uint64_t end);

  std::vector<Slot> slots_;  // one per partition, in the order of facts_.partitions
  Geometry geometry_;
};

/// An empty table on a blank disk.
std::unique_ptr<PartitionTable> make_mbr(Store& disk, std::uint32_t sector_size);
/// The sectors that partitions could use then: the first one, and one past the last.
std::pair<Sectors, Sectors> usable_by_new_mbr(Bytes disk_size, std::uint32_t sector_size);
/// Null when the first sector holds no partition table.
std::unique_ptr<PartitionTable> open_mbr(Store& disk, std::uint32_t sector_size);

}  // namespace jh
