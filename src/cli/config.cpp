#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iostream>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "cli/commands.h"
#include "cli/terminal.h"

namespace jh::cli {

namespace {

struct Setting {
  std::string name;
  std::string value;
  std::string from;      // "default", or the file and its line
  std::string commands;  // that have it
  bool known = true;
};

// Lines of the file by the name that they set: the parser does not say where it found what.
std::map<std::string, std::size_t> lines_of(const std::string& path) {
  std::map<std::string, std::size_t> lines;
  std::ifstream in(path);
  std::string section;
  std::size_t number = 0;
  for (std::string line; std::getline(in, line);) {
    ++number;
    const auto trimmed = [](const std::string& text) {
      const std::size_t first = text.find_first_not_of(" \t");
      const std::size_t last = text.find_last_not_of(" \t\r");
      return first == std::string::npos ? std::string() : text.substr(first, last - first + 1);
    };
    const std::string text = trimmed(line.substr(0, line.find('#')));
    if (text.starts_with('[') && text.ends_with(']'))
      section = text.substr(1, text.size() - 2) + ".";
    else if (const std::size_t equals = text.find('='); equals != std::string::npos)
      lines.emplace(section + trimmed(text.substr(0, equals)), number);
  }
  return lines;
}

std::string default_of(const po::option_description& option) {
  boost::any value;
  if (!option.semantic()->apply_default(value)) return {};
  if (const auto* text = boost::any_cast<std::string>(&value)) return *text;
  if (const auto* flag = boost::any_cast<bool>(&value)) return *flag ? "true" : "false";
  if (const auto* number = boost::any_cast<std::uint32_t>(&value)) return std::to_string(*number);
  if (const auto* size = boost::any_cast<std::size_t>(&value)) return std::to_string(*size);
  return {};
}

// All options of all commands, and what the file says of them.
std::vector<Setting> settings(const std::string& path) {
  std::map<std::string, Setting> known;
  po::options_description all;
  for (const Command& command : all_commands()) {
    const po::options_description options = all_options(command.line());
    for (const auto& option : options.options()) {
      const std::string& name = option->long_name();
      if (name == "help") continue;
      Setting& setting = known[name];
      setting.name = name;
      if (setting.from.empty()) {
        setting.value = default_of(*option);
        setting.from = "default";
        all.add(option);
      }
      setting.commands += (setting.commands.empty() ? "" : " ") + std::string(command.name);
    }
  }
  std::ifstream file(path);
  std::vector<Setting> out;
  if (file) {
    const auto lines = lines_of(path);
    try {
      const auto parsed = po::parse_config_file(file, all, /*allow_unregistered=*/true);
      for (const auto& option : parsed.options) {
        Setting& setting = known[option.string_key];
        setting.known = !setting.name.empty();
        setting.name = option.string_key;
        setting.value = option.value.empty() ? "true" : option.value.front();
        const auto line = lines.find(option.string_key);
        setting.from = line == lines.end() ? path : fmt::format("{}, line {}", path, line->second);
      }
    } catch (const po::error& error) {
      wrong_usage(std::string("the configuration file is not understood: ") + error.what(),
                  "look at " + path);
    }
  }
  for (auto& [name, setting] : known) out.push_back(std::move(setting));
  return out;
}

}  // namespace

CommandLine config_line() {
  return {
      "config",
      "",
      "which values options have, and where they come from",
      "Shows the value that each option has when it is not given, and where that comes from: "
      "built\n"
      "in, or a line of the configuration file, $XDG_CONFIG_HOME/juneheath/juneheath.conf. A line\n"
      "there is an option's name without its hyphens: proof = full.",
      "  juneheath config\n",
      po::options_description("Config"),
      CommandLine::Takes::nothing};
}

int run_config(CommandRun& run, const Parsed& /*parsed*/) {
  const std::string path = config_path();
  const bool there = config_is_there(path);
  const std::vector<Setting> all = settings(path);
  nlohmann::json rows = nlohmann::json::array();
  for (const Setting& setting : all)
    rows.push_back({{"option", setting.name},
                    {"value", setting.value},
                    {"from", setting.from},
                    {"known", setting.known}});
  run.record.document = {{"file", path}, {"there", there}, {"options", rows}};
  if (!run.text()) return 0;
  std::cout << "  " << printable(path.empty() ? "no configuration file can be named" : path)
            << (there || path.empty() ? "" : ": there is no such file; all is as built in")
            << "\n\n";
  std::vector<Row> table{
      {{"  option", Style::dim}, {"value", Style::dim}, {"from", Style::dim}, {"of", Style::dim}}};
  for (const Setting& setting : all) {
    const bool set = setting.from != "default";
    const std::size_t every = all_commands().size();
    const auto count = static_cast<std::size_t>(
        std::count(setting.commands.begin(), setting.commands.end(), ' ') + 1);
    table.push_back(
        {{"  " + setting.name, set ? Style::heading : Style::plain},
         {setting.value.empty() ? "-" : setting.value, set ? Style::heading : Style::dim},
         {setting.known ? setting.from : setting.from + ": no command has such an option",
          setting.known ? Style::dim : Style::bad},
         {count == every ? "every command" : setting.commands, Style::dim}});
  }
  print_table(table);
  return 0;
}

}  // namespace jh::cli
