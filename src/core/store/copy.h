// Copying an image before it is changed.
#pragma once

#include <string>

#include "core/base/progress.h"

namespace jh {

/// Copies `from` to the new file `to`: by sharing blocks where the host's filesystem can, otherwise
/// run by run, leaving holes where there are holes. Flushed on return. Throws refused (the name is
/// taken, no room) and io; what was begun is removed then.
/// `what`: how messages call the copy.
void copy_image(const std::string& from, const std::string& to, Progress& progress,
                const std::string& what = "backup");

}  // namespace jh
