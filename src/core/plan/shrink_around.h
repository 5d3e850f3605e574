// The steps around a place that became smaller: its partition, those behind it, the table, the
// disk.
#pragma once

#include <optional>

#include "core/plan/partition_layout.h"
#include "core/plan/shrink_inside.h"

namespace jh {

/// A physical volume that becomes smaller on its way is proven by its volumes: throws unsupported
/// where not all of them can be seen.
void check_can_be_compared(const Guest& guest, const Layer& layer);

class ShrinkAround {
 public:
  /// All must outlive it.
  ShrinkAround(Plan& plan, WriteCost& cost, const Guest& guest, const ShrinkRequest& request)
      : plan_(plan), cost_(cost), guest_(guest), request_(request) {}

  /// Moves the partition's end inwards; with `disk_size`, its extended one's too, when that would
  /// reach past such a disk's end.
  void shorten(const Layer& layer, Sectors end, std::optional<Bytes> disk_size);
  void move(const PartitionLayout::Member& member);
  void move_extended(std::size_t disk, const PartitionLayout::Extended& extended);
  /// What the table and the container have to do, once everything inside is smaller.
  void finish_disk(std::size_t disk);

 private:
  void move_spare(std::size_t disk, Bytes size);
  void keep_cut(std::size_t disk, Bytes size);

  Plan& plan_;
  WriteCost& cost_;
  const Guest& guest_;
  const ShrinkRequest& request_;
};

}  // namespace jh
