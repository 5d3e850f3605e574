// Is the tree of a filesystem whose blocks and inodes have moved still the same?
#pragma once

#include <map>
#include <string>

#include "core/base/progress.h"
#include "core/fs/ext/filesystem.h"

namespace jh {

/// Ranges of bytes, disjoint: start → end.
using Ranges = std::map<std::uint64_t, std::uint64_t>;
/// Adds a range, joining those that touch.
void add_range(Ranges& ranges, std::uint64_t start, std::uint64_t end);
bool meets(const Ranges& ranges, std::uint64_t start, std::uint64_t end);

/// Walks both trees side by side: every name, every attribute, every extended attribute, and the
/// content of all that lies elsewhere now or lies in `changed` (bytes of the filesystem's place).
/// What lies where it lay, in bytes that did not change, is not read. Throws damaged (a proof that
/// failed), naming the path. Memory: two bits per inode, and what one directory holds.
void compare_trees(ext::Filesystem& before, ext::Filesystem& after, const Ranges& changed,
                   const std::string& where, Progress& progress);

}  // namespace jh
