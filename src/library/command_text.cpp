#include "library/command_text.h"

#include "core/base/shell_word.h"

namespace jh {

std::string command_text(const Suggestion& command) {
  std::string words = "juneheath " + command.command;
  for (const std::string& image : command.images) words += " " + shell_word(image);
  for (const Suggestion::Option& option : command.options) {
    words += " --" + option.name;
    if (option.value) words += " " + shell_word(*option.value);
  }
  return command.reason.empty() ? words : words + "   # " + command.reason;
}

}  // namespace jh
