// The steps of a group's growth, once it is settled what it gains and who gets it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/plan/plan.h"

namespace jh {

/// A physical volume whose partition, or disk, becomes larger in place.
struct DeviceGrowth {
  std::size_t pv = 0;
  const Place* place = nullptr;
  Sectors new_end;  // of its partition
  Bytes new_size;   // of its place
};

/// A partition, perhaps on a disk that is made for it, that becomes a physical volume.
struct FreshDevice {
  std::size_t disk = 0;
  NewPartition partition;
  Bytes size;
  bool new_disk = false;
};

/// A volume that is to become larger.
struct Wish {
  const Place* volume = nullptr;
  Amount amount;
  std::uint64_t extents = 0;  // settled
  std::size_t pieces = 0;     // that they come in
};

struct GroupGrowth {
  const Guest& guest;
  const GrowRequest& request;
  const VolumeGroup& group;
  const lvm::OpenGroup& planned;         // as it will be
  const std::vector<Bytes>& disk_sizes;  // likewise
  std::optional<std::size_t> resized;    // a disk that becomes larger
  const std::vector<DeviceGrowth>& growths;
  const std::vector<FreshDevice>& fresh;
  const std::vector<Wish>& wishes;          // in the order they were said
  const std::vector<const Wish*>& settled;  // in the order they were served
  std::uint64_t free_before = 0;            // extents
};

/// Throws what stands against a change of the disk's table.
void check_table_of(const Disk& disk);
/// Of a disk that is added: like the first one's, as far as an MBR reaches.
TableKind table_kind_of_new(const Guest& guest, const Disk& disk);
std::string name_of_new(const Guest& guest, const FreshDevice& fresh);

void add_group_steps(Plan& plan, const GroupGrowth& growth);

}  // namespace jh
