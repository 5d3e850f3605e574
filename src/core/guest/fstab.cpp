#include "core/guest/fstab.h"

#include <sstream>

namespace jh {
namespace {

bool is_octal(char c) { return c >= '0' && c <= '7'; }

std::string unescape(const std::string& field) {
  std::string out;
  for (std::size_t i = 0; i < field.size(); ++i) {
    if (field[i] == '\\' && i + 3 < field.size() && is_octal(field[i + 1]) &&
        is_octal(field[i + 2]) && is_octal(field[i + 3])) {
      out += static_cast<char>((field[i + 1] - '0') * 64 + (field[i + 2] - '0') * 8 +
                               (field[i + 3] - '0'));
      i += 3;
    } else {
      out += field[i];
    }
  }
  return out;
}

std::string unquoted(std::string device) {
  // UUID="..." is allowed too.
  const std::size_t equals = device.find('=');
  if (equals != std::string::npos && device.size() >= equals + 3 && device[equals + 1] == '"' &&
      device.back() == '"')
    device = device.substr(0, equals + 1) + device.substr(equals + 2, device.size() - equals - 3);
  return device;
}

}  // namespace

std::vector<FstabEntry> parse_fstab(const std::string& text) {
  std::vector<FstabEntry> entries;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    std::istringstream fields(line);
    FstabEntry entry;
    if (!(fields >> entry.device >> entry.mount_point >> entry.type)) continue;
    if (entry.device.starts_with('#')) continue;
    entry.device = unquoted(unescape(entry.device));
    entry.mount_point = unescape(entry.mount_point);
    entries.push_back(entry);
  }
  return entries;
}

}  // namespace jh
