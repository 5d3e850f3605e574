#include <fmt/format.h>
#include <malloc.h>

#include <algorithm>
#include <array>
#include <csignal>
#include <iostream>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/terminal.h"

namespace {

struct Command {
  const char* name;
  const char* usage;
  const char* summary;
  int (*run)(const jh::cli::Arguments&);
};

constexpr std::array<Command, 9> commands{{
    {"survey", "IMAGE...", "read only: every layer, its room, what stands in the way",
     jh::cli::run_survey},
    {"grow", "IMAGE... [--to SIZE | --by SIZE] [--give TARGET]",
     "make the disk and what is in it larger", jh::cli::run_grow},
    {"shrink", "IMAGE... (--to SIZE | --by SIZE | --take TARGET)",
     "make the disk and what is in it smaller", jh::cli::run_shrink},
    {"compact", "IMAGE... [--into OUT]", "the same disk in a smaller file", jh::cli::run_compact},
    {"recast", "IMAGE NEW [--form FORM] [--store HOW]", "the same disk in a new image, of any form",
     jh::cli::run_recast},
    {"audit", "IMAGE...", "read only: is every layer sound?", jh::cli::run_audit},
    {"undo", "IMAGE...", "take the last change back", jh::cli::run_undo},
    {"recover", "IMAGE...", "finish or drop an interrupted change", jh::cli::run_recover},
    {"demo", "DIR", "unpack the sample guests and show the whole story", jh::cli::run_demo},
}};

void print_help() {
  std::cout << "juneheath changes the size of a guest's disk from outside, in one step, through\n"
               "every layer at once: image, partition table, filesystem. All of it or nothing,\n"
               "proven before it counts, and with a way back.\n\n";
  for (const Command& command : commands)
    std::cout << fmt::format("  juneheath {:8} {}\n  {:18} {}\n", command.name, command.usage, "",
                             command.summary);
  std::cout
      << "\n  juneheath COMMAND --help     all options of a command, with examples\n"
         "  juneheath --version\n\n"
         "SIZE: 40GiB, 40GB, 40G (= GiB), 1.5TiB, 512MiB or bytes. TARGET: a mount point\n"
         "(/var, C:), a partition (p3), label:NAME, uuid:ID, or nothing (the disk alone).\n\n"
         "Exit status: 0 done, 1 internal error, 2 wrong usage, 3 refused (nothing changed),\n"
         "4 damage found, 5 input or output failed, 6 not supported.\n";
}

int dispatch(const std::vector<std::string>& arguments) {
  if (arguments.empty()) jh::wrong_usage("no command is named", "see: juneheath --help");
  const std::string& name = arguments.front();
  if (name == "--help" || name == "help") {
    print_help();
    return 0;
  }
  if (name == "--version") {
    std::cout << "juneheath " << JUNEHEATH_VERSION << "\n";
    return 0;
  }
  const auto* found = std::find_if(commands.begin(), commands.end(),
                                   [&](const Command& command) { return name == command.name; });
  if (found == commands.end())
    jh::wrong_usage(fmt::format("\"{}\" is no command", name), "see: juneheath --help");
  return found->run({arguments.begin() + 1, arguments.end()});
}

}  // namespace

int main(int argc, char** argv) {
  // Buffers of a megabyte come and go all the time: fetched from the kernel one by one, each of
  // them would be filled with zeros page by page again.
  ::mallopt(M_MMAP_THRESHOLD, 16 << 20);
  ::mallopt(M_TRIM_THRESHOLD, 32 << 20);
  // A file that grows past a limit is a failed write, with a message, and no end of the program.
  std::signal(SIGXFSZ, SIG_IGN);
  const std::vector<std::string> arguments(argv + 1, argv + argc);
  const bool json = std::find(arguments.begin(), arguments.end(), "--json") != arguments.end();
  return jh::cli::guarded(arguments.empty() ? "" : arguments.front(), json,
                          [&] { return dispatch(arguments); });
}
