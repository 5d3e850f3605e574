// A directory tree as a list of facts, to be compared before and after.
#pragma once

#include <map>
#include <string>

#include "support/program.h"

namespace jh::test {

/// Path → type, mode, owner, size, times, links, target, attributes and a sum of the content, as
/// the operating system reports them.
Facts tree_facts(const std::string& root);

/// What differs, a line each; empty when nothing does.
std::string tree_difference(const Facts& expected, const Facts& found);

}  // namespace jh::test
