// Notes: what a run that is cut off leaves for the next one.
#pragma once

#include <optional>
#include <string>

#include "core/store/store.h"

namespace jh::live {

/// Durable on return, with its name and its folder's, which is made if it is not there. Throws io.
void write_new_file(const std::string& path, ConstByteSpan bytes);

class Notes {
 public:
  explicit Notes(std::string folder) : folder_(std::move(folder)) {}

  /// Durable on return. Throws io.
  void put(const std::string& name, const std::string& text) const;
  std::optional<std::string> get(const std::string& name) const;
  void remove(const std::string& name) const;

 private:
  std::string path_of(const std::string& name) const { return folder_ + "/live-" + name; }

  std::string folder_;
};

/// A swap area that was taken out of use: its device, and its priority.
constexpr const char* swap_note = "swap";
/// Disks that are being added: what they are known by, and what will be written on them.
constexpr const char* disk_note = "disk";

/// How large each target is to become that was given a size or a share, by the layer's identity.
constexpr const char* goal_note = "goal";

}  // namespace jh::live
