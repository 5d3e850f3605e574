// Copying an image before it is changed.
#pragma once

#include <string>

#include "core/base/progress.h"
#include "core/store/transfer.h"

namespace jh {

/// Copies `from` to the new file `to`: by sharing blocks where the host's filesystem can and
/// `sharing` lets it, otherwise run by run, leaving holes where there are holes. Flushed on return.
/// Throws refused (the name is taken, no room) and io; what was begun is removed then.
/// `what`: how messages call the copy.
Transferred copy_image(const std::string& from, const std::string& to, Sharing sharing,
                       Progress& progress, const std::string& what = "backup");

}  // namespace jh
