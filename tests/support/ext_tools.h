// Growing a filesystem in a file with the core, without tables or ledgers around it.
#pragma once

#include <map>
#include <string>

#include "core/base/findings.h"

namespace jh::test {

/// Grows the filesystem in `path` to `size` bytes, moving what lies in the way. Throws Error.
void grow_ext(const std::string& path, std::uint64_t size);
/// Our own full audit.
Findings audit_ext(const std::string& path);
/// Path → attributes and a sum of the content, by our own reader.
std::map<std::string, std::string> own_tree_facts(const std::string& path);
/// "where: what" of each finding, a line each.
std::string words_of(const Findings& findings);

}  // namespace jh::test
