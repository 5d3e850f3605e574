// What commands that change images do around the change: locks, a backup, new images for --into.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "cli/options.h"
#include "core/base/progress.h"
#include "core/carry/checks.h"
#include "core/change/unfinished_image.h"
#include "core/guest/guest.h"
#include "core/plan/request.h"
#include "core/store/host.h"

namespace jh::cli {

using Locks = std::vector<std::unique_ptr<ImageLock>>;

/// All files of the images, parts included; and where that is asked for, what they build on.
std::vector<std::string> all_files(Host& host, const std::vector<std::string>& images,
                                   bool with_parents = false);
/// Refuses files that somebody uses; locks them.
Locks lock_all(const std::vector<std::string>& files);
/// The same for the images of a change, before anything of them is believed: whoever was at work on
/// them is done then. With --into they are only read, and only checked.
/// A dry run looks at the same, and keeps others from writing as long as it plans.
Locks lock_images(Host& host, const std::vector<std::string>& images, const ChangeOptions& options,
                  bool dry_run);
/// For work that reads them only: refuses files that somebody writes to.
Locks lock_for_reading(const std::vector<std::string>& files);

/// What on the host stands against a change of these images now: who uses them, what builds on
/// them, a change that was interrupted. Nothing is locked.
std::vector<Error> host_blockers(Host& host, const std::vector<std::string>& images);

/// --backup: copies the images, with all their files, where it says, and opens the copies. With all
/// effort they are compared byte for byte.
void make_backup(const Parsed& parsed, const Guest& guest, ProofEffort effort, Progress& progress);

/// The new images of --into: removed again unless the change on them succeeds.
class Copies {
 public:
  explicit Copies(Host& host) : host_(host) {}
  Copies(const Copies&) = delete;
  Copies& operator=(const Copies&) = delete;
  std::vector<std::string> make(const std::vector<std::string>& images, const std::string& base,
                                std::optional<ImageFormat> format, Progress& progress);
  /// Gives the new images, with all their files, their names; returns those.
  std::vector<std::string> keep();

 private:
  Host& host_;
  std::vector<std::unique_ptr<UnfinishedImage>> made_;
};

/// Refuses names for outputs under which ledgers are kept.
void check_output_names(const Parsed& parsed,
                        const std::vector<std::pair<std::string, Bytes>>& added = {});

/// The command that takes a change of these images back.
std::string undo_command(const Parsed& parsed, const std::vector<std::string>& images);

}  // namespace jh::cli
