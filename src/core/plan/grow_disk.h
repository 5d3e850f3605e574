// How the partitions of one disk come to lie when some of them become larger.
#pragma once

#include <optional>

#include "core/plan/partition_layout.h"
#include "core/plan/plan.h"

namespace jh {

class DiskGrowth {
 public:
  /// `size`: of the disk, afterwards. `may_move`: what stands behind a partition may move towards
  /// the end. The guest must outlive it.
  DiskGrowth(const Guest& guest, std::size_t disk, Bytes size, bool may_move);

  const Disk& disk() const { return guest_->disks()[index_]; }
  Bytes size() const { return size_; }
  bool becomes_larger() const { return !disk().added && size_ > disk().size(); }

  /// The size that a place could have in place, and at most, given what was promised to others.
  Bytes reach_in_place(const Layer& layer) const;
  Bytes reach(const Layer& layer) const;
  /// Promises it a size, in whole sectors, within its reach.
  void promise(const Layer& layer, Bytes size);
  /// What it was promised, or has.
  Bytes promised(const Layer& layer) const;
  bool has_promised() const { return promised_; }

  /// Where a new partition would lie in what is left. Throws refused when there is no room.
  NewPartition place_new() const;
  /// Promises the new partition its place.
  void promise(const NewPartition& partition) { fresh_.push_back(partition); }

  /// What comes to lie elsewhere, in the order of the disk; and the extended partition if it has to
  /// be described anew.
  std::vector<PartitionLayout::Member> moved() const;
  std::optional<PartitionLayout::Extended> extended() const;
  /// Where a partition is afterwards.
  PartitionLayout::Member layout_of(const Layer& layer) const;

 private:
  PartitionLayout arranged() const;
  Sectors usable() const { return disk().table->usable_end_on(size_); }
  Bytes bytes(Sectors count) const { return to_bytes(count, disk().table->facts().sector_size); }

  const Guest* guest_;
  std::size_t index_;
  Bytes size_;
  bool may_move_;
  bool promised_ = false;
  std::optional<PartitionLayout> lineup_;  // as promised, nobody moved yet; nothing: no table
  Bytes whole_;                            // of a disk without a table
  std::vector<NewPartition> fresh_;
};

/// Whether something could grow, on a disk of this size, if what stands behind it moved.
bool could_grow_by_moves(const Guest& guest, const Layer& layer, Bytes disk_size);

}  // namespace jh
