// The commands; each has a file of its own.
#pragma once

#include <string>
#include <vector>

#include "cli/command_run.h"
#include "cli/options.h"

namespace jh::cli {

struct Command {
  const char* name;
  CommandLine (*line)();
  int (*work)(CommandRun& run, const Parsed& parsed);

  /// Arguments come without the command's name. Does nothing more where they ask for help.
  int run(CommandRun& told, const Arguments& arguments) const;
};

/// All of them, in the order of the help page.
const std::vector<Command>& all_commands();
/// Null: there is no such command.
const Command* find_command(const std::string& name);

CommandLine survey_line();
CommandLine grow_line();
CommandLine shrink_line();
CommandLine compact_line();
CommandLine recast_line();
CommandLine audit_line();
CommandLine undo_line();
CommandLine recover_line();
CommandLine batch_line();
CommandLine config_line();
CommandLine demo_line();

int run_survey(CommandRun& run, const Parsed& parsed);
int run_grow(CommandRun& run, const Parsed& parsed);
int run_shrink(CommandRun& run, const Parsed& parsed);
int run_compact(CommandRun& run, const Parsed& parsed);
int run_recast(CommandRun& run, const Parsed& parsed);
int run_audit(CommandRun& run, const Parsed& parsed);
int run_undo(CommandRun& run, const Parsed& parsed);
int run_recover(CommandRun& run, const Parsed& parsed);
int run_batch(CommandRun& run, const Parsed& parsed);
int run_config(CommandRun& run, const Parsed& parsed);
int run_demo(CommandRun& run, const Parsed& parsed);

/// For shells: a line for each word that the last one could become, with a tab and what it is.
int run_complete(const Arguments& words);

}  // namespace jh::cli
