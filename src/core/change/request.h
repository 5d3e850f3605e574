// Request: what the user asked for, before anything was looked at.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "core/guest/target.h"

namespace jh {

enum class ProofEffort { usual, full };

struct GrowRequest {
  std::vector<std::string> images;
  std::size_t disk = 0;  // which of them is to become larger
  bool disk_chosen = false;
  std::optional<Bytes> to;
  std::optional<Bytes> by;
  std::vector<Give> gives;
  /// Disks that the guest gets: path and size.
  std::vector<std::pair<std::string, Bytes>> add_disks;
  bool new_partition = false;     // rather than growing a physical volume in place
  std::uint32_t sector_size = 0;  // 0: find out
  bool keep_undo = true;
  bool into_copy =
      false;  // carried out on a new image: what blocks a change in place does not count
  ProofEffort proof = ProofEffort::usual;
};

}  // namespace jh
