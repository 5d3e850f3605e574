// The guest's own list of what is mounted where.
#pragma once

#include <string>
#include <vector>

namespace jh {

struct FstabEntry {
  std::string device;       // as written: UUID=..., LABEL=..., /dev/...
  std::string mount_point;  // "/var"; "none" or "swap" for swap
  std::string type;
};

/// Reads fstab(5) text: comments and short lines are skipped, \040-style escapes undone.
std::vector<FstabEntry> parse_fstab(const std::string& text);

}  // namespace jh
