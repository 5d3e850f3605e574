// Names of files as an order gives them.
#pragma once

#include <string>
#include <vector>

namespace jh {

/// Regular files and block devices that a pattern of the shell's kind (*, ?, [...], and no others)
/// finds from this folder, sorted; ledgers are none. A name without signs of a pattern is itself,
/// if it is there.
std::vector<std::string> files_matching(const std::string& folder, const std::string& pattern);

/// With everything that has no place in a folder's name replaced by a hyphen.
std::string safe_name(const std::string& name);

}  // namespace jh
