// Who else speaks of an image: those that build on it, and those of whose disk it is a piece. They
// would be damaged by a change that they are not told of.
#pragma once

#include <string>
#include <vector>

namespace jh {

/// Throws refused when a file in the folders around one of these (its own, those below it, the one
/// above and what lies in that) builds on it, or lists it as a piece of its disk and is not among
/// `files` itself. Names are followed as the other file means them; where it names its parent by an
/// identity only, that is compared.
void check_no_dependents(const std::vector<std::string>& files);

}  // namespace jh
