// How a suggested command is typed: for the program, and for those who show messages of the
// library.
#pragma once

#include "core/base/advice.h"

namespace jh {

/// "juneheath grow a.img --by 10GiB", to paste; what it is for follows as a comment.
std::string command_text(const Suggestion& command);

}  // namespace jh
