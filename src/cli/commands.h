// The commands; each has a file of its own. Arguments come without the command's name.
#pragma once

#include <string>
#include <vector>

namespace jh::cli {

using Arguments = std::vector<std::string>;

int run_survey(const Arguments& arguments);
int run_grow(const Arguments& arguments);
int run_shrink(const Arguments& arguments);
int run_compact(const Arguments& arguments);
int run_recast(const Arguments& arguments);
int run_audit(const Arguments& arguments);
int run_undo(const Arguments& arguments);
int run_recover(const Arguments& arguments);
int run_demo(const Arguments& arguments);

}  // namespace jh::cli
