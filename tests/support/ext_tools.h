// Growing a filesystem in a file with the core, without tables or ledgers around it.
#pragma once

#include <string>

#include "core/base/findings.h"

namespace jh::test {

/// Grows the filesystem in `path` to `size` bytes, moving what lies in the way. Throws Error.
void grow_ext(const std::string& path, std::uint64_t size);
/// Our own full audit.
Findings audit_ext(const std::string& path);
/// "where: what" of each finding, a line each.
std::string words_of(const Findings& findings);

}  // namespace jh::test
