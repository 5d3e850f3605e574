// The configuration of the system's own volume tools: where their locks are, which disks they leave
// alone.
#pragma once

#include <optional>
#include <string>

#include "core/live/kernel.h"

namespace jh::live {

/// What the configuration of the system's volume tools says.
std::string volume_settings(KernelFacts& kernel);
/// What a setting of the system's volume tools says, by the text of their configuration; nothing:
/// it is not set.
std::optional<std::string> setting_of(const std::string& configuration, const std::string& name);
/// Whether their global_filter accepts a device. Patterns of which nothing is known accept.
bool filter_lets_in(const std::string& configuration, const std::string& path);

}  // namespace jh::live
