// The command line: what every command shares.
#pragma once

#include <boost/program_options.hpp>
#include <functional>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "cli/command_run.h"
#include "cli/terminal.h"
#include "core/base/errors.h"
#include "core/plan/request.h"
#include "core/store/host.h"

namespace jh::cli {

namespace po = boost::program_options;

/// Options that every command understands.
struct Common {
  bool json = false;
  bool quiet = false;
  bool verbose = false;
  When color = When::automatic;
  std::string ledger_folder;
  std::uint32_t sector_size = 0;
  bool allow_outside = false;
};

struct Parsed {
  po::variables_map values;
  std::vector<std::string> images;
  Common common;
  bool help_shown = false;
};

/// What a command needs for its parsing and its help page.
struct CommandLine {
  std::string name;
  std::string usage;     // "IMAGE..."
  std::string brief;     // half a line, for the list of commands
  std::string summary;   // a sentence or two
  std::string examples;  // lines to paste
  po::options_description own;
  enum class Takes { images, folder, order, nothing } takes = Takes::images;
};

/// Parses; shows the help page when asked for; tells the run who is to be told what. Throws usage
/// errors. Defaults come from the config file ($XDG_CONFIG_HOME/juneheath/juneheath.conf) where it
/// names an option.
Parsed parse(CommandRun& run, const CommandLine& line, const Arguments& arguments);

/// To be filled with a command's own options; wide enough for their descriptions on one line.
inline po::options_description own_options(const char* command) {
  return po::options_description(command, 102, 60);
}
/// The options that every command has.
po::options_description common_options();
/// Its own options, and those of every command.
po::options_description all_options(const CommandLine& line);
/// Whether a value follows it.
bool takes_value(const po::option_description& option);
/// Where the config file is looked for; empty: there is no such place.
std::string config_path();
/// Of these names the one that was meant, perhaps; empty: none is near.
std::string nearest(const std::string& word, const std::vector<std::string>& names);
/// Whether there is such a file, as far as this user may know: a folder above may be another's.
bool config_is_there(const std::string& path);

/// The host as these images may see it: of what lies outside of their folders, only what
/// --allow-outside lets in.
FileHost::Reach reach_of(const Parsed& parsed, const std::vector<std::string>& images);
FileHost host_for(const Parsed& parsed, const std::vector<std::string>& images);

/// --proof, for the commands that have it.
ProofEffort proof_from(const Parsed& parsed);

}  // namespace jh::cli
