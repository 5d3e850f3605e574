#include "core/base/host_lists.h"

#include <algorithm>
#include <charconv>
#include <fstream>
#include <iterator>
#include <sstream>

namespace jh {

std::string unescaped_word(const std::string& word) {
  std::string out;
  for (std::size_t i = 0; i < word.size(); ++i) {
    if (word[i] == '\\' && i + 3 < word.size()) {
      unsigned code = 0;
      const auto end = std::from_chars(&word[i + 1], &word[i + 4], code, 8);
      if (end.ptr == &word[i + 4]) {
        out += static_cast<char>(code);
        i += 3;
        continue;
      }
    }
    out += word[i];
  }
  return out;
}

std::string first_line_of(const std::string& path) {
  std::ifstream file(path);
  std::string line;
  std::getline(file, line);
  return line;
}

std::string text_of_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(file), {}};
}

std::vector<MountLine> parse_mount_lines(const std::string& text) {
  const auto read_only = [](const std::string& options) {
    return options == "ro" || options.starts_with("ro,");
  };
  std::vector<MountLine> all;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    // Number, parent, device, root, point, options, optional fields, "-", kind, source, options.
    std::istringstream words(line);
    std::vector<std::string> fields;
    for (std::string word; words >> word;) fields.push_back(word);
    const auto dash = std::find(fields.begin(), fields.end(), "-");
    if (dash - fields.begin() < 6 || fields.end() - dash < 4) continue;
    MountLine mount;
    std::from_chars(fields[0].data(), fields[0].data() + fields[0].size(), mount.number);
    mount.device = fields[2];
    mount.root = fields[3];
    mount.point = unescaped_word(fields[4]);
    mount.kind = dash[1];
    mount.source = unescaped_word(dash[2]);
    mount.read_only = read_only(fields[5]) || read_only(dash[3]);
    all.push_back(std::move(mount));
  }
  return all;
}

}  // namespace jh
