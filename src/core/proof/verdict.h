// What everything says that looks at a result and does not find what was planned.
#pragma once

#include <string>

namespace jh {

/// Throws damaged: "the result did not pass its proof: ...".
[[noreturn]] void proof_failed(const std::string& what, const std::string& where);

}  // namespace jh
