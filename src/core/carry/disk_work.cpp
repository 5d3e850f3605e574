#include "core/carry/disk_work.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/staged/kept_ranges.h"

namespace jh {

DiskWork::DiskWork(Stage& stage, FileResolver& resolver, std::uint32_t sector_size, Bytes size)
    : stage_(stage),
      sector_size_(sector_size),
      size_(size),
      container_(open_container(stage, &resolver)) {
  open_table_again();
}

// What every container asks for before it is written to for the first time.
void DiskWork::be_ready() {
  if (!ready_) container_->make_ready();
  ready_ = true;
}

std::unique_ptr<Store> DiskWork::layer(std::uint32_t partition) {
  be_ready();
  if (partition == 0) return std::make_unique<WindowStore>(disk(), 0, disk().size(), disk().name());
  open_table_again();  // from the stage, as it will be on disk
  const Partition* found = table_->find(partition);
  ensure(found != nullptr, "the partition is in the staged table");
  return std::make_unique<WindowStore>(disk(), to_bytes(found->first, sector_size_).value(),
                                       to_bytes(found->count, sector_size_).value(),
                                       fmt::format("{}, partition {}", stage_.name(), partition));
}

void DiskWork::run(const Step&, const step::GrowContainer& work) {
  be_ready();
  container_->grow(work.size);
}

void DiskWork::run(const Step&, const step::ShrinkContainer& work) {
  be_ready();
  container_->shrink(work.size);
}

void DiskWork::run(const Step&, const step::CreateDisk& work) {
  be_ready();
  table_ = make_table(disk(), work.table, sector_size_);
}

void DiskWork::run(const Step&, const step::RepairTable&) {
  be_ready();
  if (!table_->must_move_spare()) table_->repair(disk());
}

void DiskWork::run(const Step&, const step::MoveSpare&) {
  be_ready();
  if (size_.value() >= disk().size()) {
    table_->cover_disk(disk());
    return;
  }
  WindowStore left(disk(), 0, size_.value(), disk().name());
  table_->cover_disk(left);
}

void DiskWork::run(const Step& step, const step::GrowPartition& work) {
  be_ready();
  table_->cover_disk(disk());
  table_->move_end(disk(), step.layer.number(), work.end);
}

void DiskWork::run(const Step& step, const step::ShrinkPartition& work) {
  be_ready();
  table_->move_end(disk(), step.layer.number(), work.end);
}

void DiskWork::run(const Step& step, const step::MoveExtended& work) {
  be_ready();
  table_->move_chain(disk(), {step.layer.number(), work.first, work.end}, work.logical);
  open_table_again();
}

void DiskWork::run(const Step&, const step::CreatePartition& work) {
  be_ready();
  table_->cover_disk(disk());
  table_->create(disk(), work.partition, random_guid());
}

// Old and new place may overlap: towards the front from the beginning on, towards the end from the
// end. The stage keeps what stood there, piece by piece, before it is overwritten. That may be the
// record of a logical partition: the table is not read again before all are written anew.
void DiskWork::run(const Step& step, const step::MovePartition& work, const Content& content,
                   Progress& progress) {
  be_ready();
  const Partition* partition = table_->find(step.layer.number());
  ensure(partition != nullptr && work.first != partition->first, "a partition moves");
  const std::uint64_t from = to_bytes(partition->first, sector_size_).value();
  const std::uint64_t to = to_bytes(work.first, sector_size_).value();
  const std::uint64_t length = to_bytes(work.end - work.first, sector_size_).value();
  // Towards the end a piece must not be longer than the way: it would run into itself.
  const std::uint64_t most = std::min(moved_at_once, to > from ? to - from : UINT64_MAX);
  std::uint64_t done = 0;
  const auto copy = [&](std::uint64_t at, std::uint64_t size) {
    copy_unreferenced(disk(), from + at, disk(), to + at, size);
    progress.advance(done += size);
  };
  const Ranges kept = kept_when_moved(content, length);
  if (to < from) {
    for (const auto& [start, end] : kept)
      for (std::uint64_t at = start; at < end; at += most) copy(at, std::min(most, end - at));
  } else {
    for (auto range = kept.rbegin(); range != kept.rend(); ++range)
      for (std::uint64_t end = range->second; end > range->first;) {
        const std::uint64_t size = std::min(most, end - range->first);
        copy(end -= size, size);
      }
  }
  WindowStore moved(disk(), to, length, stage_.name());
  update_partition_start(moved, content.filesystem_kind(), partition->first, work.first);
  if (partition->role != PartitionRole::logical)
    table_->move(disk(), step.layer.number(), work.first, work.end);
}

}  // namespace jh
