#include <fmt/format.h>
#include <malloc.h>
#include <sys/resource.h>

#include <algorithm>
#include <csignal>
#include <iostream>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/terminal.h"
#include "core/base/version.h"

namespace jh::cli {

namespace {

void print_help() {
  std::cout << "juneheath changes the size of a guest's disk from outside, in one step, through\n"
               "every layer at once: image, partition table, filesystem. All of it or nothing,\n"
               "verified before it is committed, and with a way back.\n\n";
  for (const Command& command : all_commands()) {
    const CommandLine line = command.line();
    const std::string head = fmt::format("  juneheath {:8} {}", command.name, line.usage);
    std::cout << head.substr(0, head.find_last_not_of(' ') + 1)
              << fmt::format("\n  {:18} {}\n", "", line.brief);
  }
  std::cout
      << "\n  juneheath COMMAND --help     all options of a command, with examples\n"
         "  juneheath --version\n\n"
         "SIZE: 40GiB, 40GB, 40G (= GiB), 1.5TiB, 512MiB or bytes. TARGET: a mount point\n"
         "(/var, C:), a partition (p3), label:NAME, uuid:ID, or nothing (the disk alone).\n\n"
         "Exit status: 0 done, 1 internal error, 2 wrong usage, 3 refused (nothing changed),\n"
         "4 damage found, 5 input or output failed, 6 not supported.\n";
}

[[noreturn]] void no_such_command(const std::string& name) {
  std::vector<std::string> names;
  for (const Command& command : all_commands()) names.emplace_back(command.name);
  const std::string meant = nearest(name, names);
  wrong_usage(fmt::format("\"{}\" is no command", name),
              meant.empty()
                  ? "see: juneheath --help"
                  : fmt::format("perhaps: juneheath {}; all of them: juneheath --help", meant));
}

int dispatch(CommandRun& run, const Arguments& arguments) {
  const std::string& name = run.record.command;
  if (name.empty()) wrong_usage("no command is named", "see: juneheath --help");
  if (name == "help" && !arguments.empty()) {
    if (const Command* asked = find_command(arguments.front())) return asked->run(run, {"--help"});
    no_such_command(arguments.front());
  }
  if (name == "--help" || name == "-h" || name == "help") {
    print_help();
    return 0;
  }
  if (name == "--version") {
    std::cout << "juneheath " << core_version() << "\n";
    return 0;
  }
  const Command* command = find_command(name);
  if (command == nullptr) no_such_command(name);
  return command->run(run, arguments);
}

}  // namespace
}  // namespace jh::cli

int main(int argc, char** argv) {
  // Buffers of a megabyte come and go all the time: fetched from the kernel one by one, each of
  // them would be filled with zeros page by page again.
  ::mallopt(M_MMAP_THRESHOLD, 16 << 20);
  ::mallopt(M_TRIM_THRESHOLD, 32 << 20);
  // A file that grows past a limit is a failed write, with a message, and no end of the program.
  std::signal(SIGXFSZ, SIG_IGN);
  // Whoever ignores it for us would keep us from hearing how our own processes ended.
  std::signal(SIGCHLD, SIG_DFL);
  // A disk may lie in thousands of files.
  rlimit files{};
  if (::getrlimit(RLIMIT_NOFILE, &files) == 0) {
    files.rlim_cur = files.rlim_max;
    ::setrlimit(RLIMIT_NOFILE, &files);
  }
  const std::string name = argc > 1 ? argv[1] : "";
  const std::vector<std::string> arguments(argv + std::min(argc, 2), argv + argc);
  if (name == "complete") return jh::cli::run_complete(arguments);
  jh::cli::CommandRun run(name, arguments);
  run.set_json(std::find(arguments.begin(), arguments.end(), "--json") != arguments.end());
  return run.finish([&] { return jh::cli::dispatch(run, arguments); });
}
