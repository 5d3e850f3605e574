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

/// The disk of an image as a raw one, for outside judges: made anew at `to`, which it returns. A
/// failure of the test where it cannot be.
std::string recast_raw(const std::string& image, const std::string& to);

/// The commands in a message, each up to the end of its line, bracket or clause.
struct CommandInText {
  std::string line;
  std::string verb;
  bool may_write() const { return verb != "survey" && verb != "audit" && verb != "recover"; }
};
std::vector<CommandInText> commands_in(const std::string& text);
/// By a shell, as a technician pastes it.
ProgramResult paste(const std::string& line);

}  // namespace jh::test
