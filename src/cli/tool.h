// Another program, run for what it says.
#pragma once

#include <string>
#include <vector>

namespace jh::cli {

struct ToolOutput {
  int status = 0;  // exit status; 128 + signal when killed
  std::string out;
  std::string err;
};

/// Waits for it. Throws refused, with `next`, when there is no such program.
ToolOutput run_tool(const std::vector<std::string>& command, const std::string& next);

}  // namespace jh::cli
