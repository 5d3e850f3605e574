// Plan: the steps, with every amount settled to the byte, before anything is touched.
#pragma once

#include <string>
#include <vector>

#include "core/base/shell_word.h"
#include "core/container/create.h"
#include "core/guest/guest.h"
#include "core/plan/request.h"

namespace jh {

enum class StepKind {
  settle_container,  // replays its log, puts its counts in order
  grow_container,
  repair_table,
  move_spare,
  grow_partition,
  create_disk,  // a new image with an empty table
  create_partition,
  grow_device,      // a physical volume to its place
  add_device,       // a new physical volume, into the group
  grow_volume,      // in the group's metadata
  commit_group,     // the metadata, to all its copies
  settle_content,   // a filesystem that was not cleanly unmounted
  prepare_content,  // move what would be in the way of its growth
  grow_content,     // a filesystem, or swap
  shrink_content,
  shrink_volume,     // in the group's metadata
  move_extents,      // off the end of a physical volume, or off all of it
  shrink_device,     // a physical volume to its place
  remove_device,     // out of its group
  shrink_partition,  // also an extended one
  move_partition,    // towards the front, with what is in it
  move_chain,        // the extended partition and the records of the logical ones
  shrink_container
};

/// A place by its numbers, which stay the same when the guest is opened again.
struct Where {
  std::size_t disk = 0;
  std::uint32_t partition = 0;  // 0: the whole disk
  std::string volume;           // "group/volume"; then the others are not looked at
  bool operator==(const Where&) const = default;
};
Where where_is(const Guest& guest, const Place& place);
/// Null: there is no such place.
const Place* place_at(const Guest& guest, const Where& where);

struct Step {
  StepKind kind{};
  std::size_t disk = 0;
  std::string layer;   // "disk", "GPT", "p3", "ext4 on p3"
  std::string action;  // "grow the image file", "move the spare copy to the disk's end"
  Bytes from;          // sizes; equal when the step changes none
  Bytes to;
  std::uint32_t partition = 0;  // 0: the whole disk
  Sectors new_end{};
  Sectors new_first{};              // of a partition that moves
  std::vector<NewPlace> logical{};  // where those in an extended partition lie then
  Bytes content_size{};             // of the filesystem, when all its steps are done
  bool moves_content = false;       // its files may lie elsewhere afterwards
  std::string volume{};             // "group/volume": the step is on it, not on the partition
  std::uint64_t extents = 0;        // what a volume gains, or keeps; how many a device keeps
  Bytes place_size{};               // of a physical volume that becomes smaller
  NewPartition fresh{};             // a partition that is created
  TableKind table{};                // of a disk that is created
  std::uint64_t to_move = 0;        // bytes of content, at most
  Where where() const { return {disk, partition, volume}; }
};

struct DiskChange {
  std::string path;
  Bytes from;
  Bytes to;
  NewContainer made{};                   // of a disk that is added
  std::vector<std::string> new_parts{};  // its further files
  std::vector<std::string> let_go{};     // files that are empty afterwards
};

struct Plan {
  std::string command = "grow";   // for what is written down of the change
  std::vector<DiskChange> disks;  // every disk of the guest, changed or not
  std::string target;             // as the user would name it; empty: the disk alone
  std::vector<Where> targets;     // the places that may change inside
  std::string group;              // the volume group that changes; empty: none
  std::vector<Step> steps;
  std::vector<std::string> notes;    // worth knowing; nothing stands in the way
  std::vector<std::string> remains;  // what the guest must do itself
  std::uint64_t bytes_to_write = 0;  // an upper bound, ledger included
  bool touches(std::size_t disk) const;
  /// Whether a step of this kind is on this place.
  bool has(StepKind kind, const Where& where) const;
  /// Whether anything becomes smaller, moves, or goes: what stood there is not referred to
  /// afterwards.
  bool lets_go() const;
  /// Whether files in this place may lie elsewhere afterwards.
  bool moves_content(const Where& where) const;
};

}  // namespace jh
