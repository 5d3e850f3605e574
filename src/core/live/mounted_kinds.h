// The table of kinds of mounted filesystems: what the kernel's driver of each is asked and told.
// Who adds one that grows while it is mounted adds a line here.
#pragma once

#include "core/base/sizes.h"
#include "core/live/kernel.h"

namespace jh::live {

struct MountedKind {
  const char* name;              // as the kernel has it
  const char* shown;             // as users read it
  Bytes least{0};                // below it the driver makes none larger
  bool mounts_by_parts = false;  // a part of it can be mounted in place of the whole
  /// Puts what the driver says into `found`, or why it could not make it larger. `point`: a
  /// descriptor of what is mounted. Throws io.
  void (*ask)(int point, const Mount& mount, MountedSize& found) = nullptr;
  /// To so many bytes; `block` as the driver has said. Throws io.
  void (*grow)(int point, const Mount& mount, std::uint64_t size, std::uint64_t block) = nullptr;
};

/// By the kernel's name; null: its driver makes none larger.
const MountedKind* mounted_kind(const std::string& name);
/// As users read it.
std::string shown_kind(const std::string& name);

}  // namespace jh::live
