#include "core/base/shell_word.h"

#include <algorithm>
#include <cctype>
#include <string_view>

namespace jh {

std::string shell_word(const std::string& text) {
  const bool plain = !text.empty() && std::all_of(text.begin(), text.end(), [](unsigned char c) {
    return std::isalnum(c) != 0 ||
           std::string_view("/._-+=:@%,").find(static_cast<char>(c)) != std::string_view::npos;
  });
  if (plain) return text;
  const bool control =
      std::any_of(text.begin(), text.end(), [](unsigned char c) { return c < 0x20 || c == 0x7F; });
  if (control) {
    // What a terminal would act on is spelled out.
    std::string quoted = "$'";
    for (const char c : text) {
      const auto byte = static_cast<unsigned char>(c);
      if (byte < 0x20 || byte == 0x7F) {
        constexpr char octal[] = "01234567";
        quoted += {'\\', octal[byte >> 6], octal[byte >> 3 & 7], octal[byte & 7]};
      } else if (c == '\'' || c == '\\') {
        quoted += {'\\', c};
      } else {
        quoted += c;
      }
    }
    return quoted + "'";
  }
  std::string quoted = "'";
  for (const char c : text) quoted += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return quoted + "'";
}

std::string shell_words(const std::vector<std::string>& words) {
  std::string line;
  for (const std::string& word : words) line += (line.empty() ? "" : " ") + shell_word(word);
  return line;
}

}  // namespace jh
