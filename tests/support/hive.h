// A small registry hive, as a guest keeps it: the key MountedDevices with values.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "core/store/store.h"

namespace jh::test {

using HiveValues = std::vector<std::pair<std::string, Buffer>>;

/// 8192 bytes. `wide`: names in UTF-16, and the list of keys in two halves.
Buffer make_hive(const HiveValues& values, bool wide = false);
/// What stands for a partition of a disk with an MBR, and of one with a GPT.
Buffer mbr_place(std::uint32_t signature, std::uint64_t offset);
Buffer gpt_place(const std::vector<std::uint8_t>& guid);

}  // namespace jh::test
