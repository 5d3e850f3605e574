// Many files: which they are, and whether each is an image at all.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/guest/guest.h"

namespace jh {

/// Whether anything in the file says that it is a disk: a form of its own, a partition table, or
/// content that is known. A raw file of something else is none.
bool looks_like_disk(const Guest& guest);

/// Regular files below these paths, sorted; folders are walked, links are not followed, ledgers are
/// left out. Throws io for a path that is not there.
std::vector<std::string> files_below(const std::vector<std::string>& paths);

}  // namespace jh
