// The steps on one disk: its image, its table, and partitions that move.
#pragma once

#include <memory>

#include "core/base/progress.h"
#include "core/plan/plan.h"
#include "core/store/stage.h"

namespace jh {

class DiskWork {
 public:
  /// All must outlive it. `size`: of the disk once all steps are done.
  DiskWork(Stage& stage, FileResolver& resolver, std::uint32_t sector_size, Bytes size);

  /// A place on the disk as the steps so far have left it. Partition 0: the whole disk.
  std::unique_ptr<Store> layer(std::uint32_t partition);

  void run(const Step&, const step::RecoverContainer&) { be_ready(); }
  void run(const Step& step, const step::GrowContainer& work);
  void run(const Step& step, const step::ShrinkContainer& work);
  void run(const Step& step, const step::CreateDisk& work);
  void run(const Step& step, const step::RepairTable& work);
  void run(const Step& step, const step::MoveSpare& work);
  void run(const Step& step, const step::GrowPartition& work);
  void run(const Step& step, const step::ShrinkPartition& work);
  void run(const Step& step, const step::MoveExtended& work);
  void run(const Step& step, const step::CreatePartition& work);
  /// `content`: what is in the partition.
  void run(const Step& step, const step::MovePartition& work, const Content& content,
           Progress& progress);

 private:
  Store& disk() { return container_->disk(); }
  void be_ready();
  void open_table_again() { table_ = open_table(container_->disk(), sector_size_); }

  Stage& stage_;
  std::uint32_t sector_size_;
  Bytes size_;
  std::unique_ptr<Container> container_;
  std::unique_ptr<PartitionTable> table_;
  bool ready_ = false;
};

}  // namespace jh
