// What a volume is called by the system's mapper of devices.
#pragma once

#include <string>

namespace jh::lvm {

/// "group-volume", with hyphens of either name doubled.
inline std::string mapper_name(const std::string& group, const std::string& volume) {
  const auto doubled = [](const std::string& name) {
    std::string out;
    for (const char c : name) out += c == '-' ? std::string("--") : std::string(1, c);
    return out;
  };
  return doubled(group) + "-" + doubled(volume);
}

}  // namespace jh::lvm
