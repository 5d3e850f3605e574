// Two states of one disk, and where the guest would see a difference.
#pragma once

#include <functional>
#include <string>

#include "core/base/ranges.h"
#include "core/change/file_set.h"
#include "core/container/container.h"

namespace jh {

/// What the stages have changed in each file, by its path.
using FileChanges = std::map<std::string, Ranges>;
FileChanges changed_files(FileSet& files);

/// Calls visit(at, length) for every stretch of the disk that may differ, in order, as far as both
/// reach. Where a piece lies at the same place of the same file, the file's changes are its
/// changes; otherwise the contents are compared, in sectors.
void for_each_difference(Container& before, Container& after, const FileChanges& changes,
                         const std::function<void(std::uint64_t, std::uint64_t)>& visit);

}  // namespace jh
