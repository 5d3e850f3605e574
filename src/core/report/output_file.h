// Files that results are written to.
#pragma once

#include <string>

namespace jh {

/// Writes the file anew: under another name first, so that a reader finds the old one or the new
/// one, and durable on return. Throws io.
void write_output(const std::string& path, const std::string& bytes);

/// Makes the folder, and those it lies in. Throws io: `what` went wrong, and what to do `next`.
void make_folder(const std::string& path, const std::string& what, const Advice& next = {});

}  // namespace jh
