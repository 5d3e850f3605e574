// Commands that a message offers to paste.
#pragma once

#include <string>
#include <vector>

namespace jh {

/// A word for the shell, quoted where needed.
std::string shell_word(const std::string& text);
/// A command line of such words.
std::string shell_words(const std::vector<std::string>& words);

}  // namespace jh
