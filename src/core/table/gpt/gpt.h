// GPT: two copies of everything, one at each end of the disk.
#pragma once

#include "core/table/gpt/format.h"
#include "core/table/table.h"

namespace jh {

class GptTable final : public PartitionTable {
 public:
  /// One of the two copies, with the reason why it cannot be trusted, if so.
  struct Copy {
    gpt::Header header{};
    Buffer entries;
    std::string defect;
    bool good() const { return defect.empty(); }
  };

  static Copy read_copy(Store& disk, std::uint64_t lba, std::uint32_t sector);

  GptTable(Store& disk, std::uint32_t sector_size, Copy primary, Copy backup);
  Ranges own_places() const override;
  bool must_move_spare() const override;
  Sectors usable_end_on(Bytes disk_size) const override;
  NewPartition place_new(const std::vector<Partition>& among, Bytes disk_size) const override;
  void create(Store& disk, const NewPartition& partition, const Uuid& id) override;
  void cover_disk(Store& disk) override;
  void move_end(Store& disk, std::uint32_t number, Sectors new_end) override;
  void move(Store& disk, std::uint32_t number, Sectors first, Sectors end) override;
  void move_chain(Store&, const NewPlace&, const std::vector<NewPlace>&) override {
    ensure(false, "a GPT has no extended partition");
  }
  void repair(Store& disk) override;
  void audit(Store& disk, Findings& findings) override;

 private:
  void read_partitions();
  void check_protective_mbr(Store& disk);
  void set_limits(Store& disk);
  std::uint64_t array_sectors() const;
  void write_all(Store& disk);
  void write_protective_mbr(Store& disk);
  void wipe_old_spare(Store& disk);

  gpt::Header header_{};          // of the trusted copy, as the primary has it
  Buffer entries_;                // of the trusted copy
  std::uint64_t backup_lba_ = 0;  // where the backup header is said to be
  std::uint64_t backup_array_lba_ = 0;
  bool backup_good_ = false;
  std::uint64_t last_lba_ = 0;  // of the disk
};

/// An empty table on a blank disk.
std::unique_ptr<PartitionTable> make_gpt(Store& disk, std::uint32_t sector_size);
/// The sectors that partitions could use then: the first one, and one past the last. Throws refused
/// when the disk is too small.
std::pair<Sectors, Sectors> usable_by_new_gpt(Bytes disk_size, std::uint32_t sector_size);
/// Null when neither copy is there. Throws damaged when something is, but nothing to be trusted.
std::unique_ptr<PartitionTable> open_gpt(Store& disk, std::uint32_t sector_size);

}  // namespace jh
