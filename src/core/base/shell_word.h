// Commands that a message offers to paste.
#pragma once

#include <string>

namespace jh {

/// A word for the shell, quoted where needed.
std::string shell_word(const std::string& text);

}  // namespace jh
