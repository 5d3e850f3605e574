// Is the tree of a filesystem whose content and numbers have moved still the same?
#pragma once

#include <string>

#include "core/base/progress.h"
#include "core/base/ranges.h"
#include "core/fs/filesystem.h"
#include "core/staged/content_check.h"

namespace jh {

/// A tree, and the place that its extents lie in.
struct TreeState {
  FileTree& tree;
  Store& place;
};

/// Walks both trees side by side: every name, every attribute, every extended attribute, and the
/// content of all that lies elsewhere now or lies in `changed` (bytes of the filesystem's place).
/// What lies where it lay, in bytes that did not change, is not read. Throws damaged (a proof that
/// failed), naming the path. Memory: two bits per node, two numbers per folder that waits, and what
/// one folder holds.
/// Returns how many files and folders it has compared.
std::uint64_t compare_trees(const TreeState& before, const TreeState& after, const Ranges& changed,
                            ContentCheck& contents, const std::string& where, Progress& progress);

}  // namespace jh
