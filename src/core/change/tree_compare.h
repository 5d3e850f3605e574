// Is the tree of a filesystem whose blocks and inodes have moved still the same?
#pragma once

#include <string>

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/change/content_check.h"
#include "core/fs/ext/filesystem.h"

namespace jh {

/// Walks both trees side by side: every name, every attribute, every extended attribute, and the
/// content of all that lies elsewhere now or lies in `changed` (bytes of the filesystem's place).
/// What lies where it lay, in bytes that did not change, is not read. Throws damaged (a proof that
/// failed), naming the path. Memory: two bits per inode, and what one directory holds.
void compare_trees(ext::Filesystem& before, ext::Filesystem& after, const Ranges& changed,
                   ContentCheck& contents, const std::string& where, Progress& progress);

}  // namespace jh
