#include "cli/options.h"

#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <nlohmann/json.hpp>
#include <numeric>
#include <utility>

namespace jh::cli {

po::options_description common_options() {
  po::options_description common("Everywhere", 102, 60);
  common.add_options()("json", po::bool_switch(), "print one JSON document")(
      "quiet", po::bool_switch(), "print results and errors only")("verbose", po::bool_switch(),
                                                                   "tell more")(
      "color", po::value<std::string>()->default_value("auto")->value_name("WHEN"),
      "auto, always or never")("sector-size",
                               po::value<std::uint32_t>()->default_value(0)->value_name("N"),
                               "512 or 4096; 0 finds out")(
      "ledger-dir",
      po::value<std::string>()->default_value("/var/lib/juneheath", "")->value_name("DIR"),
      "where ledgers of block devices are kept (/var/lib/juneheath)")(
      "report", po::value<std::string>()->value_name("DIR"),
      "write a page, figures and JSON there")("log", po::value<std::string>()->value_name("FILE"),
                                              "add lines on what is done to it")(
      "allow-outside", po::bool_switch(), "images may name files elsewhere")(
      "help", po::bool_switch(), "show this page");
  return common;
}

po::options_description all_options(const CommandLine& line) {
  po::options_description all;
  all.add(line.own).add(common_options());
  return all;
}

bool takes_value(const po::option_description& option) {
  return option.semantic()->max_tokens() != 0;
}

std::string config_path() {
  if (const char* folder = std::getenv("XDG_CONFIG_HOME"); folder != nullptr && *folder != '\0')
    return std::string(folder) + "/juneheath/juneheath.conf";
  if (const char* home = std::getenv("HOME"); home != nullptr && *home != '\0')
    return std::string(home) + "/.config/juneheath/juneheath.conf";
  return {};
}

std::string nearest(const std::string& word, const std::vector<std::string>& names) {
  std::string best;
  std::size_t least = 1 + word.size() / 3;  // more than that is another word
  for (const std::string& name : names) {
    // How many letters have to be put in, taken out or changed.
    std::vector<std::size_t> row(name.size() + 1);
    std::iota(row.begin(), row.end(), 0U);
    for (std::size_t i = 1; i <= word.size(); ++i) {
      std::size_t before = std::exchange(row[0], i);
      for (std::size_t j = 1; j <= name.size(); ++j) {
        const std::size_t changed = before + (word[i - 1] == name[j - 1] ? 0 : 1);
        before = row[j];
        row[j] = std::min({row[j] + 1, row[j - 1] + 1, changed});
      }
    }
    if (row.back() >= least + (best.empty() ? 1 : 0)) continue;
    least = row.back();
    best = name;
  }
  return best;
}

bool config_is_there(const std::string& path) {
  std::error_code error;
  return !path.empty() && std::filesystem::exists(path, error) && !error;
}

namespace {

When parse_when(const std::string& text) {
  if (text == "auto") return When::automatic;
  if (text == "always") return When::always;
  if (text == "never") return When::never;
  wrong_usage(fmt::format("--color {} is not known", text), "use auto, always or never");
}

const char* word_for(CommandLine::Takes takes) {
  if (takes == CommandLine::Takes::order) return "work order";
  return takes == CommandLine::Takes::folder ? "folder" : "image";
}

}  // namespace

Parsed parse(CommandRun& run, const CommandLine& line, const Arguments& arguments) {
  const po::options_description visible = all_options(line);
  po::options_description all;
  all.add(visible);
  all.add_options()("image", po::value<std::vector<std::string>>());
  po::positional_options_description positional;
  positional.add("image", -1);

  Parsed parsed;
  try {
    po::store(po::command_line_parser(arguments).options(all).positional(positional).run(),
              parsed.values);
    if (const std::string path = config_path(); config_is_there(path)) {
      std::ifstream file(path);
      if (!std::filesystem::is_regular_file(path) || !file)
        wrong_usage("the configuration file cannot be read: " + path,
                    "make it readable, or move it away");
      po::store(po::parse_config_file(file, visible, /*allow_unregistered=*/true), parsed.values);
    }
    po::notify(parsed.values);
  } catch (const po::unknown_option& error) {
    std::vector<std::string> names;
    for (const auto& option : visible.options()) names.push_back("--" + option->long_name());
    const std::string meant = nearest(error.get_option_name(), names);
    wrong_usage(error.what(), (meant.empty() ? "" : "perhaps: " + meant + "; ") +
                                  fmt::format("see: juneheath {} --help", line.name));
  } catch (const po::error& error) {
    wrong_usage(error.what(), fmt::format("see: juneheath {} --help", line.name));
  }
  const auto flag = [&](const char* name) { return parsed.values[name].as<bool>(); };
  parsed.common.json = flag("json");
  parsed.common.quiet = flag("quiet");
  parsed.common.verbose = flag("verbose");
  parsed.common.color = parse_when(parsed.values["color"].as<std::string>());
  parsed.common.ledger_folder = parsed.values["ledger-dir"].as<std::string>();
  parsed.common.allow_outside = flag("allow-outside");
  parsed.common.sector_size = parsed.values["sector-size"].as<std::uint32_t>();
  set_color(parsed.common.color);
  run.set_json(parsed.common.json);
  run.set_quiet(parsed.common.quiet);
  if (flag("help")) {
    std::cout << "juneheath " << line.name << " " << line.usage << "\n\n"
              << line.summary << "\n"
              << visible;
    if (!line.examples.empty()) std::cout << "\nExamples:\n" << line.examples;
    parsed.help_shown = true;
    return parsed;
  }
  if (const std::uint32_t size = parsed.common.sector_size;
      size != 0 && size != 512 && size != 4096)
    wrong_usage(fmt::format("--sector-size {} is not known", size), "use 512 or 4096");
  if (parsed.values.count("image") != 0)
    parsed.images = parsed.values["image"].as<std::vector<std::string>>();
  const bool live = parsed.values.count("live") != 0 && flag("live");
  if (parsed.images.empty() && line.takes != CommandLine::Takes::nothing && !live)
    wrong_usage(fmt::format("no {} is named", word_for(line.takes)),
                fmt::format("juneheath {} {}", line.name, line.usage));
  if (line.takes == CommandLine::Takes::images) run.record.images = parsed.images;
  if (parsed.values.count("report") != 0) run.set_report(parsed.values["report"].as<std::string>());
  if (parsed.values.count("log") != 0) run.set_log(parsed.values["log"].as<std::string>());
  return parsed;
}

FileHost::Reach reach_of(const Parsed& parsed, const std::vector<std::string>& images) {
  FileHost::Reach reach{{}, parsed.common.allow_outside};
  const auto add = [&](const std::filesystem::path& file) {
    const auto folder = file.parent_path();
    reach.folders.push_back(folder.empty() ? "." : folder.string());
  };
  for (const std::string& image : images) {
    add(image);
    // An image that is a link lies where it leads to.
    std::error_code error;
    if (const auto real = std::filesystem::canonical(image, error); !error) add(real);
  }
  return reach;
}

FileHost host_for(const Parsed& parsed, const std::vector<std::string>& images) {
  return FileHost(parsed.common.ledger_folder, reach_of(parsed, images));
}

ProofEffort proof_from(const Parsed& parsed) {
  const std::string proof = parsed.values["proof"].as<std::string>();
  if (proof != "usual" && proof != "full")
    wrong_usage(fmt::format("--proof {} is not known", proof), "use usual or full");
  return proof == "full" ? ProofEffort::full : ProofEffort::usual;
}

}  // namespace jh::cli
