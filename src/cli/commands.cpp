#include "cli/commands.h"

namespace jh::cli {

const std::vector<Command>& all_commands() {
  static const std::vector<Command> commands{
      {"survey", survey_line, run_survey}, {"grow", grow_line, run_grow},
      {"shrink", shrink_line, run_shrink}, {"compact", compact_line, run_compact},
      {"recast", recast_line, run_recast}, {"audit", audit_line, run_audit},
      {"undo", undo_line, run_undo},       {"recover", recover_line, run_recover},
      {"batch", batch_line, run_batch},    {"config", config_line, run_config},
      {"demo", demo_line, run_demo},
  };
  return commands;
}

int Command::run(CommandRun& told, const Arguments& arguments) const {
  const Parsed parsed = parse(told, line(), arguments);
  return parsed.help_shown ? 0 : work(told, parsed);
}

const Command* find_command(const std::string& name) {
  for (const Command& command : all_commands())
    if (name == command.name) return &command;
  return nullptr;
}

}  // namespace jh::cli
