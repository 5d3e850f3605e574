// Step: one change of one layer, computed to the byte. What each kind needs is in a struct of its
// own; who carries steps out, or proves them, visits them.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "core/guest/layer_id.h"
#include "core/table/table.h"

namespace jh {

namespace step {

// On the image of a disk.
struct RecoverContainer {};  // replays its log, puts its counts in order
struct GrowContainer {
  Bytes size;
};
struct ShrinkContainer {
  Bytes size;
};
/// A new image with an empty table; a blank disk that is there gets the table only.
struct CreateDisk {
  TableKind table = TableKind::gpt;
  Bytes size;
  std::uint32_t sector_size = 512;
};

// On the table of a disk, or of one that is kept in a layer.
struct RepairTable {};
struct MoveSpare {
  Sectors known_end;  // one past the last sector that partitions can use then
};
struct GrowPartition {
  Sectors end;
};
struct ShrinkPartition {
  Sectors end;
};
/// With what is in it.
struct MovePartition {
  Sectors first;
  Sectors end;
};
/// The extended partition, and the records of all logical ones, which have moved already.
struct MoveExtended {
  Sectors first;
  Sectors end;
  std::vector<NewPlace> logical;
};
struct CreatePartition {
  NewPartition partition;
};

// In a volume group. The place of a step on a physical volume is the one it lies in.
struct GrowPhysicalVolume {
  std::uint64_t extents = 0;  // it has then
};
struct AddDevice {
  std::string group;
  std::uint64_t extents = 0;  // it has
};
struct ShrinkDevice {
  Bytes place_size;
  std::uint64_t extents = 0;  // it has then
};
struct RemoveDevice {};
/// Off everything on a physical volume from one extent on.
struct MoveExtents {
  std::uint64_t first = 0;
};
struct GrowVolume {
  std::uint64_t extents = 0;  // it gains
};
struct ShrinkVolume {
  std::uint64_t extents = 0;  // it keeps
};
/// Writes its metadata to all copies.
struct CommitGroup {
  std::string group;
};

// Inside a place: a filesystem, or swap.
struct ReplayJournal {};  // it was not cleanly unmounted
/// Moves what would be in the way of its growth to `size`.
struct PrepareContent {
  Bytes size;
};
struct GrowContent {
  Bytes size;
};
struct ShrinkContent {
  Bytes size;
  bool moves_content = false;  // its files may lie elsewhere afterwards
};

// In a running system: its kernel is told of what stands on disk by then.
struct TellPartition {
  bool created = false;  // it has not known of it at all
};
struct LoadVolume {};

}  // namespace step

struct Step {
  using Work =
      std::variant<step::RecoverContainer, step::GrowContainer, step::ShrinkContainer,
                   step::CreateDisk, step::RepairTable, step::MoveSpare, step::GrowPartition,
                   step::ShrinkPartition, step::MovePartition, step::MoveExtended,
                   step::CreatePartition, step::GrowPhysicalVolume, step::AddDevice,
                   step::ShrinkDevice, step::RemoveDevice, step::MoveExtents, step::GrowVolume,
                   step::ShrinkVolume, step::CommitGroup, step::ReplayJournal, step::PrepareContent,
                   step::GrowContent, step::ShrinkContent, step::TellPartition, step::LoadVolume>;

  LayerId layer;       // the place it is on, or at least its disk
  std::string name;    // "disk", "GPT", "p3", "ext4 on p3"
  std::string action;  // "make the image longer", "move the backup copy to the disk's end"
  Work work;
  std::uint64_t to_move = 0;  // bytes of content, at most
  Bytes from{};               // sizes, by apply() once the plan stands; equal when none changes
  Bytes to{};

  /// Its work when it is of this kind; null otherwise.
  template <class Kind>
  const Kind* as() const {
    return std::get_if<Kind>(&work);
  }
  template <class Kind>
  bool is() const {
    return as<Kind>() != nullptr;
  }
};

}  // namespace jh
