// Comma-separated values (RFC 4180).
#pragma once

#include <string>
#include <vector>

namespace jh {

/// One line with its CRLF. What a spreadsheet would take for a formula is quoted with a leading
/// apostrophe: names come from somebody's disk.
inline std::string csv_line(const std::vector<std::string>& fields) {
  std::string line;
  bool first = true;
  for (std::string field : fields) {
    if (!first) line += ',';
    first = false;
    if (!field.empty() && std::string("=+-@\t\r").find(field.front()) != std::string::npos)
      field.insert(0, 1, '\'');
    if (field.find_first_of(",\"\r\n") != std::string::npos) {
      std::string quoted = "\"";
      for (const char c : field) quoted += c == '"' ? "\"\"" : std::string(1, c);
      field = quoted + "\"";
    }
    line += field;
  }
  return line + "\r\n";
}

}  // namespace jh
