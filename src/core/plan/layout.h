// Layout: where everything of a guest lies and how large it is, as plain values; and apply(): what
// one step makes of it. Plans take their sizes from it, figures draw it, the proof compares the
// disks with it; those who carry steps out only do.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "core/guest/guest.h"
#include "core/plan/step.h"

namespace jh {

struct Layout {
  struct PartitionPlace {
    Sectors first;
    Sectors end;  // one past the last sector
    PartitionRole role = PartitionRole::primary;
    bool created = false;  // by a step
  };
  struct TablePlace {
    bool fresh = false;  // made by a step
    std::uint32_t sector_size = 512;
    Sectors known_end;  // one past the last sector that it lets be used
    std::map<std::uint32_t, PartitionPlace> partitions;  // by number
  };
  struct Device {
    LayerId layer;
    std::uint64_t extents = 0;
  };
  struct GroupPlace {
    std::uint64_t extent_size = 0;  // bytes
    std::uint64_t sequence = 0;
    std::uint64_t committed = 0;  // extents that its metadata on disk speak of
    std::vector<Device> devices;
    std::map<std::string, std::uint64_t> volumes;  // extents, by "group/volume"

    std::uint64_t extents() const;
    Bytes bytes(std::uint64_t count) const { return Bytes(count * extent_size); }
  };

  std::vector<Bytes> disks;              // their sizes; 0: it is not there yet
  std::map<LayerId, TablePlace> tables;  // by what they lie on: a disk, or one kept in a layer
  std::map<std::string, GroupPlace> groups;
  std::map<LayerId, Bytes> contents;  // what filesystems and swap areas say of themselves
  std::map<LayerId, Bytes> kernel;    // as large as a running system takes it to be

  /// Null: there is none.
  const TablePlace* table_on(const LayerId& layer) const;
  Bytes size_of_partition(const LayerId& layer) const;
  const GroupPlace* group_of_volume(const std::string& volume) const;
};

/// As it is.
Layout layout_of(const Guest& guest);

/// The size of what a step is about, before it and after it; equal when it changes none.
struct SizeChange {
  Bytes from;
  Bytes to;
};
/// Changes the layout as the step changes the guest. The layout must be that of the guest that the
/// step was planned for, with all steps before it applied.
SizeChange apply(const Step& step, Layout& layout);

}  // namespace jh
