// What commands that change images do around the change: locks, a backup, new images for --into.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "cli/options.h"
#include "core/base/progress.h"
#include "core/carry/image_locks.h"
#include "core/change/recast.h"
#include "core/change/unfinished_image.h"
#include "core/guest/guest.h"
#include "core/store/host.h"

namespace jh::cli {

/// --share, for the commands that make whole images.
void add_share_option(boost::program_options::options_description& own);
Sharing sharing_from(const Parsed& parsed);

/// --backup: copies the images, with all their files, where it says, and opens the copies. With all
/// effort they are compared byte for byte.
void make_backup(CommandRun& run, const Parsed& parsed, const Guest& guest, ProofEffort effort,
                 Progress& progress);

/// "4.00 GiB shared with the image, 12.0 MiB copied"
std::string transfer_text(const Transferred& content);
/// The same of what moved inside of an image, where some of it was shared.
std::string moved_text(const Transferred& moved);

/// Says of a whole image that was made what it shares with the one it was made of.
void note_copy(CommandRun& run, const std::string& path, const std::string& purpose,
               const Transferred& content);

/// The new images of --into: removed again unless the change on them succeeds.
class Copies {
 public:
  Copies(Host& host, Sharing sharing) : host_(host), sharing_(sharing) {}
  Copies(const Copies&) = delete;
  Copies& operator=(const Copies&) = delete;
  /// What will be made of each image.
  std::vector<CopyPlan> plan(const std::vector<std::string>& images, const std::string& base,
                             std::optional<ImageFormat> format);
  std::vector<std::string> make(const std::vector<std::string>& images, const std::string& base,
                                std::optional<ImageFormat> format, Progress& progress);
  /// What became of the content of all of them.
  const Transferred& content() const { return content_; }
  /// Gives the new images, with all their files, their names; returns those.
  std::vector<std::string> keep();

 private:
  CopyPlan plan_one(const std::string& image, const std::string& out,
                    std::optional<ImageFormat> format);

  Host& host_;
  Sharing sharing_;
  Transferred content_;
  std::vector<std::unique_ptr<UnfinishedImage>> made_;
};

/// Refuses names for outputs under which ledgers are kept.
void check_output_names(const Parsed& parsed,
                        const std::vector<std::pair<std::string, Bytes>>& added = {});

/// The command that takes a change of these images back.
std::string undo_command(const Parsed& parsed, const std::vector<std::string>& images);

}  // namespace jh::cli
