// The table of a disk that is kept in a layer.
#pragma once

#include "core/plan/step.h"

namespace jh {

class InnerTable {
 public:
  /// `disk`: the layer's bytes, as the steps so far have left them; it must outlive this.
  InnerTable(Store& disk, std::uint32_t sector_size)
      : disk_(disk), table_(open_table(disk, sector_size)) {
    ensure(table_ != nullptr, "the layer holds a table");
  }

  void run(const Step&, const step::RepairTable&) {
    if (!table_->must_move_spare()) table_->repair(disk_);
  }
  void run(const Step&, const step::MoveSpare&) { table_->cover_disk(disk_); }
  void run(const Step& step, const step::GrowPartition& work) {
    table_->cover_disk(disk_);
    table_->move_end(disk_, step.layer.number(), work.end);
  }
  void run(const Step&, const step::CreatePartition&) {
    ensure(false, "no partition is made on a disk that is kept in a layer");
  }

  /// Where a partition begins, and how long it is.
  std::pair<Bytes, Bytes> place_of(std::uint32_t number) const {
    const Partition* found = table_->find(number);
    ensure(found != nullptr, "the partition is in the table");
    const std::uint32_t sector = table_->facts().sector_size;
    return {to_bytes(found->first, sector), to_bytes(found->count, sector)};
  }

 private:
  Store& disk_;
  std::unique_ptr<PartitionTable> table_;
};

}  // namespace jh
