// Request: what the user asked for, before anything was looked at.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "core/guest/target.h"
#include "core/store/transfer.h"

namespace jh {

enum class ProofEffort { usual, full };

/// How a change is carried out, whatever it is.
struct ChangeOptions {
  bool keep_undo = true;
  bool into_copy = false;  // on a new image: what blocks a change in place does not count
  ProofEffort proof = ProofEffort::usual;
  Sharing sharing = Sharing::automatic;
  std::optional<ImageFormat> format{};  // of what is made new: a copy, a disk that is added
};

struct GrowRequest : ChangeOptions {
  std::vector<std::string> images;
  std::size_t disk = 0;  // which of them is to become larger
  bool disk_chosen = false;
  std::optional<Bytes> to;
  std::optional<Bytes> by;
  std::vector<Give> gives;
  /// Disks that the guest gets: path and size.
  std::vector<std::pair<std::string, Bytes>> add_disks;
  /// Of the images: those that are to be blank, and go to the group.
  std::vector<std::string> blank_disks;
  bool running = false;           // the system that this runs on: nothing names an image
  bool new_partition = false;     // rather than growing a physical volume in place
  bool allow_move = false;        // what stands behind a target may move towards the disk's end
  std::uint32_t sector_size = 0;  // 0: find out
};

struct ShrinkRequest : ChangeOptions {
  std::vector<std::string> images;
  std::size_t disk = 0;  // which of them is to become smaller
  bool disk_chosen = false;
  std::optional<Bytes> to;
  std::optional<Bytes> by;
  bool to_floor = false;
  Bytes margin{};             // that stays above the floor
  bool take_nothing = false;  // only what no partition holds goes
  /// What becomes smaller; an amount is what it loses, the default all it can.
  std::vector<Give> takes;
  /// A disk whose part of a volume group is emptied and taken out of it.
  std::optional<std::size_t> remove_disk;
  bool allow_move = false;        // partitions may move towards the front
  std::uint32_t sector_size = 0;  // 0: find out
  bool names_size() const { return to || by || to_floor; }
};

}  // namespace jh
