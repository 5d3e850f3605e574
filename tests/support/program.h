// Running programs: ours, and the outside judges.
#pragma once

#include <map>
#include <string>
#include <vector>

namespace jh::test {

struct ProgramResult {
  int status = -1;    // exit status; 128 + signal when killed
  long peak_mib = 0;  // the most memory it had at a time, or this process before it began
  std::string out;
  std::string err;
  bool said(const std::string& text) const {
    return out.find(text) != std::string::npos || err.find(text) != std::string::npos;
  }
};

ProgramResult run(const std::vector<std::string>& command,
                  const std::map<std::string, std::string>& environment = {});
/// Our own program.
ProgramResult juneheath(std::vector<std::string> arguments,
                        const std::map<std::string, std::string>& environment = {});

}  // namespace jh::test
