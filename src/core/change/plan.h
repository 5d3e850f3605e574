// Plan: the steps, with every amount settled to the byte, before anything is touched.
#pragma once

#include <string>
#include <vector>

#include "core/change/request.h"
#include "core/guest/guest.h"

namespace jh {

enum class StepKind {
  grow_container,
  repair_table,
  move_spare,
  grow_partition,
  settle_ext,
  clear_way,
  grow_ext
};

struct Step {
  StepKind kind{};
  std::size_t disk = 0;
  std::string layer;   // "disk", "GPT", "p3", "ext4 on p3"
  std::string action;  // "grow the image file", "move the spare copy to the disk's end"
  Bytes from;          // sizes; equal when the step changes none
  Bytes to;
  std::uint32_t partition = 0;  // 0: the whole disk
  Sectors new_end;
  std::uint64_t new_blocks = 0;  // of the filesystem
};

struct DiskChange {
  std::string path;
  Bytes from;
  Bytes to;
};

struct Plan {
  std::vector<DiskChange> disks;  // every disk of the guest, changed or not
  std::string target;             // as the user would name it; empty: the disk alone
  std::size_t target_disk = 0;
  std::uint32_t target_partition = 0;
  std::vector<Step> steps;
  std::vector<std::string> notes;    // worth knowing; nothing stands in the way
  std::vector<std::string> remains;  // what the guest must do itself
  std::uint64_t bytes_to_write = 0;  // an upper bound, ledger included
  bool touches(std::size_t disk) const;
};

/// Works out the growth. Throws refused, unsupported, damaged or usage errors: blockers, amounts
/// that cannot be met, several possible targets (with commands to paste).
Plan plan_growth(const Guest& guest, const GrowRequest& request);

/// Room that a place could still take, were its disk `disk_size` large.
Bytes room_of(const Guest& guest, const Place& place, Bytes disk_size);
/// A command line that repeats the request with another target, for messages.
std::string command_with(const GrowRequest& request, const std::string& give);
/// A word for the shell, quoted where needed.
std::string shell_word(const std::string& text);

}  // namespace jh
