// Volume groups, put together from the physical volumes that were found.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "core/lvm/device.h"
#include "core/lvm/group.h"

namespace jh::lvm {

/// One physical volume of a group, where it was found.
struct Member {
  std::size_t place = 0;  // index into the places that were searched
  Store* store = nullptr;
  Device device;
};

struct OpenGroup {
  explicit OpenGroup(Group read) : group(std::move(read)), members(group.pvs.size()) {}
  Group group;
  std::vector<std::optional<Member>> members;  // by physical volume; nothing: not found
  std::vector<std::string> notes;              // copies that are older, areas in trouble
  /// Why it may not be changed: the group's own reasons, and missing physical volumes.
  std::vector<Error> blockers() const;
};

struct Trouble {
  std::size_t place = 0;
  Error error;
};

struct Groups {
  std::vector<OpenGroup> groups;
  std::vector<Trouble> trouble;        // labels and texts that cannot be trusted
  std::vector<std::size_t> unclaimed;  // physical volumes that belong to no group
};

/// Reads every place that has a label. Never throws for what it finds on disk.
Groups find_groups(const std::vector<Store*>& places);

/// A plain volume as one store, over the places of its physical volumes. Null: one of them is
/// missing, or the volume is of a kind we leave alone.
std::unique_ptr<Store> open_volume(const OpenGroup& group, const Volume& volume,
                                   const std::string& name);

}  // namespace jh::lvm
