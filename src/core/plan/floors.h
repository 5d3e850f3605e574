// Floors: how small a layer could be brought, and what stands there.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "core/guest/guest.h"

namespace jh {

struct LayerFloor {
  Bytes size;          // of the place
  std::string reason;  // "its blocks in use", "partition 2 stands behind it"
};

/// Computed when first asked for; a filesystem's floor means reading what it must (bitmaps).
class Floors {
 public:
  explicit Floors(const Guest& guest) : guest_(guest) {}
  /// The smallest that a place can be brought to with what is in it, everything above it shrunk as
  /// well. A place whose content juneheath does not make smaller has its present size.
  LayerFloor of(const Layer& layer);
  /// The smallest that the disk can be brought to when nothing on it moves to another beginning.
  LayerFloor of_disk(std::size_t disk);
  /// In extents, whole stripes.
  std::uint64_t of_volume(const Layer& volume);

 private:
  const LayerFloor& of_content(const Layer& layer);
  LayerFloor of_device(const VolumeGroup& group, std::size_t pv, const Layer& layer);
  LayerFloor of_extended(const Layer& layer);

  const Guest& guest_;
  std::map<const Layer*, LayerFloor> contents_;
};

/// Why its content cannot be made smaller; nothing: it can.
std::optional<Error> no_shrinking(const Layer& layer);

/// Where the partition would end with a place of this size, kept aligned if it is.
Sectors aligned_end(const Disk& disk, const Partition& partition, Bytes place_size);
/// The smallest disk on which partitions can end there.
Bytes disk_for(const Disk& disk, Sectors end);

}  // namespace jh
