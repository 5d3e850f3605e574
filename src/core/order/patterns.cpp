#include "core/order/patterns.h"

#include <glob.h>

#include <algorithm>
#include <cctype>
#include <filesystem>

#include "core/store/ledger.h"

namespace jh {

std::vector<std::string> files_matching(const std::string& folder, const std::string& pattern) {
  namespace files = std::filesystem;
  // The folder's own name is not part of the pattern.
  std::string quoted;
  if (!files::path(pattern).is_absolute() && folder != ".")
    for (const char c : folder + "/") {
      if (std::string("*?[\\").find(c) != std::string::npos) quoted += '\\';
      quoted += c;
    }
  glob_t found{};
  std::vector<std::string> names;
  if (::glob((quoted + pattern).c_str(), 0, nullptr, &found) == 0)
    for (std::size_t i = 0; i < found.gl_pathc; ++i) {
      const files::path path(found.gl_pathv[i]);
      std::error_code error;
      const bool file = files::is_regular_file(path, error) || files::is_block_file(path, error);
      if (!file || path.extension() == ".juneheath" || path.string().ends_with(".juneheath.open"))
        continue;
      const bool relative = !files::path(pattern).is_absolute() && folder != ".";
      names.push_back(relative ? path.lexically_relative(folder).string() : path.string());
    }
  ::globfree(&found);
  std::sort(names.begin(), names.end());
  return names;
}

std::string safe_name(const std::string& name) {
  std::string safe;
  for (const char c : name) {
    const auto byte = static_cast<unsigned char>(c);
    const bool fits = byte < 0x80 && (std::isalnum(byte) != 0 || c == '.' || c == '_' || c == '-');
    safe += fits ? c : '-';
  }
  while (!safe.empty() && (safe.front() == '.' || safe.front() == '-')) safe.erase(0, 1);
  return safe.substr(0, 100);
}

}  // namespace jh
