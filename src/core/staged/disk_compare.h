// Two states of one disk, and where the guest would see a difference.
#pragma once

#include <functional>
#include <string>

#include "core/base/ranges.h"
#include "core/container/container.h"
#include "core/staged/content_check.h"

namespace jh {

/// What the stages have changed in each file, by its path.
using FileChanges = std::map<std::string, Ranges>;
FileChanges changed_files(FileSet& files);

/// Who is told of differences. Offsets and lengths are bytes of the disk.
struct DifferenceVisitor {
  /// Here the two may differ.
  std::function<void(std::uint64_t at, std::uint64_t length)> differs;
  /// How far from `at` on, at most `length`, any difference would be welcome, so that nothing needs
  /// to be read; may be empty.
  std::function<std::uint64_t(std::uint64_t at, std::uint64_t length)> indifferent{};
};

/// Tells of every stretch of the disk that may differ, in order, as far as both reach. Where a
/// piece lies at the same place of the same file, the file's changes are its changes; otherwise the
/// contents are compared, in sectors.
void for_each_difference(ImageReader& before, ImageReader& after, const FileChanges& changes,
                         ContentCheck& contents, const DifferenceVisitor& visitor);

}  // namespace jh
