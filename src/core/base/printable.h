// Text that was read from somebody's disk, in a form that a terminal only shows.
#pragma once

#include <string>
#include <string_view>

namespace jh {

/// Control characters, escape sequences, what turns the direction of text round, and bytes that are
/// no UTF-8 become \n, \t or \xNN; everything else stays.
std::string printable(std::string_view text);

}  // namespace jh
