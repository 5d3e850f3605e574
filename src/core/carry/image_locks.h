// The images of one command, locked: looked at before, locked, and looked at again behind the
// locks.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/carry/checks.h"
#include "core/plan/request.h"
#include "core/store/host.h"

namespace jh {

using Locks = std::vector<std::unique_ptr<ImageLock>>;

/// All files of the images, parts included; and where that is asked for, what they build on.
std::vector<std::string> all_files(Host& host, const std::vector<std::string>& images,
                                   bool with_parents = false);
/// Refuses files that somebody uses, or that others build on; locks them.
Locks lock_all(const std::vector<std::string>& files);
/// For work that reads them only: refuses files that somebody writes to.
Locks lock_for_reading(const std::vector<std::string>& files);
/// For the images of a change, before anything of them is believed: whoever was at work on them is
/// done then. What is changed on a copy is only read. A dry run looks at the same, and keeps others
/// from writing as long as it plans.
Locks lock_images(Host& host, const std::vector<std::string>& images, const ChangeOptions& options,
                  bool dry_run);

/// Throws refused when one of the images has an unfinished change. Returns whether the undo of a
/// finished one is kept.
bool check_no_unfinished_change(Host& host, const std::vector<std::string>& images);

/// What on the host stands against a change of these images now: who uses them, what builds on
/// them, a change that was interrupted. Nothing is locked.
std::vector<Error> host_blockers(Host& host, const std::vector<std::string>& images);

}  // namespace jh
