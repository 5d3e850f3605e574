// What the configuration of the system's volume tools says, as far as it decides what they see.
#include "core/live/volume_settings.h"

#include <regex>
#include <sstream>

namespace jh::live {
namespace {

std::string without_remark(const std::string& line) {
  bool quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (line[i] == '"') quoted = !quoted;
    if (line[i] == '#' && !quoted) return line.substr(0, i);
  }
  return line;
}

}  // namespace

std::string volume_settings(KernelFacts& kernel) {
  constexpr std::uint64_t most = 1U << 20;
  // What is in the second has the last word.
  return kernel.read_text("/etc/lvm/lvm.conf", most).value_or("") + "\n" +
         kernel.read_text("/etc/lvm/lvmlocal.conf", most).value_or("");
}

std::optional<std::string> setting_of(const std::string& configuration, const std::string& name) {
  std::string text;
  std::istringstream lines(configuration);
  for (std::string line; std::getline(lines, line);) text += without_remark(line) + "\n";
  std::optional<std::string> found;
  for (std::size_t at = text.find(name); at != std::string::npos; at = text.find(name, at + 1)) {
    // A word of its own, with an equals sign behind it: the last one counts.
    const bool begins = at == 0 || std::string(" \t\n{/").find(text[at - 1]) != std::string::npos;
    std::size_t next = text.find_first_not_of(" \t", at + name.size());
    if (!begins || next == std::string::npos || text[next] != '=') continue;
    next = text.find_first_not_of(" \t", next + 1);
    if (next == std::string::npos) continue;
    const std::size_t end =
        text[next] == '[' ? text.find(']', next) : text.find_first_of("\n}", next);
    std::string value = text.substr(next, end == std::string::npos ? end : end - next);
    while (!value.empty() && (value.back() == ' ' || value.back() == '\t')) value.pop_back();
    found = value;
  }
  return found;
}

bool filter_lets_in(const std::string& configuration, const std::string& path) {
  const auto filter = setting_of(configuration, "global_filter");
  if (!filter) return true;
  // "a|^/dev/vd|", "r|.*|": the first that fits decides.
  static const std::regex word("\"([^\"]*)\"");
  for (std::sregex_iterator it(filter->begin(), filter->end(), word), end; it != end; ++it) {
    const std::string pattern = (*it)[1];
    if (pattern.size() < 3 || (pattern[0] != 'a' && pattern[0] != 'r')) continue;
    const std::size_t close = pattern.find(pattern[1], 2);
    try {
      const std::regex fits(pattern.substr(2, close == std::string::npos ? close : close - 2),
                            std::regex::extended);
      if (std::regex_search(path, fits) || std::regex_search(path + "1", fits))
        return pattern[0] == 'a';
    } catch (const std::regex_error&) {
      continue;
    }
  }
  return true;
}

}  // namespace jh::live
