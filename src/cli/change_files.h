// What commands that change images do around the change: locks, a backup, new images for --into.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "cli/options.h"
#include "core/base/progress.h"
#include "core/change/checks.h"
#include "core/change/request.h"
#include "core/guest/guest.h"
#include "core/store/host.h"

namespace jh::cli {

/// Refuses images that somebody uses; locks those that will be changed.
std::vector<std::unique_ptr<ImageLock>> lock_images(const Guest& guest,
                                                    const ChangeOptions& options);

/// --backup: copies the images, with all their files, where it says.
void make_backup(const Parsed& parsed, const Guest& guest, Progress& progress);

/// The new images of --into: removed again unless the change on them succeeds.
class Copies {
 public:
  explicit Copies(Host& host) : host_(host) {}
  Copies(const Copies&) = delete;
  Copies& operator=(const Copies&) = delete;
  ~Copies();
  std::vector<std::string> make(const std::vector<std::string>& images, const std::string& base,
                                Progress& progress);
  void keep() { keep_ = true; }

 private:
  Host& host_;
  std::vector<std::string> made_;
  bool keep_ = false;
};

/// The command that takes a change of these images back.
std::string undo_command(const std::vector<std::string>& images);

}  // namespace jh::cli
