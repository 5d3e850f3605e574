// What every change of images has in common, from the plan to the table of what became of it.
#pragma once

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "cli/options.h"
#include "core/plan/plan.h"

namespace jh::cli {

/// The options that every change has. `yes` says what --yes spares.
void add_change_options(boost::program_options::options_description& own, const char* yes);
ChangeOptions change_options_from(const Parsed& parsed);
/// The number of an image, from 0, that an option names from 1. Throws usage errors.
std::size_t disk_from(const Parsed& parsed, const char* option);

/// --form. Throws usage errors.
ImageFormat format_from(const std::string& text);
std::optional<ImageFormat> format_from(const Parsed& parsed);

/// Whether a change that was shown may be carried out: --yes, or who sits there is asked. Throws
/// refused where `needs_yes` and nobody can be asked.
bool may_go_on(const Parsed& parsed, bool needs_yes);

struct ChangeRun {
  std::string name;  // of the command
  /// Makes the plan for these images: the ones that were named, or their copies (--into).
  std::function<Plan(const Guest&, const std::vector<std::string>& images)> plan;
  std::vector<std::pair<std::string, Bytes>> add_disks;
  bool needs_yes = false;  // where nobody can be asked
};

/// Shows the plan, asks, and carries it out. Understands --dry-run, --yes, --backup and --into.
int run_change(CommandRun& told, const Parsed& parsed, const ChangeOptions& options,
               const ChangeRun& run);

}  // namespace jh::cli
