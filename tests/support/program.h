// Running programs: ours, and the outside judges.
#pragma once

#include <map>
#include <nlohmann/json.hpp>
#include <source_location>
#include <string>
#include <vector>

namespace jh::test {

using Words = std::vector<std::string>;
/// By path or by name.
using Facts = std::map<std::string, std::string>;

/// One behind the other.
Words operator+(Words first, const Words& then);

struct ProgramResult {
  int status = -1;    // exit status; 128 + signal when killed
  long peak_mib = 0;  // the most memory it had at a time, or this process before it began
  std::string out;
  std::string err;
  bool said(const std::string& text) const {
    return out.find(text) != std::string::npos || err.find(text) != std::string::npos;
  }
};

ProgramResult run(const Words& command, const std::map<std::string, std::string>& environment = {});
/// Our own program.
ProgramResult juneheath(Words arguments,
                        const std::map<std::string, std::string>& environment = {});

/// Expects of our own program that it ends with this status and says all of these texts, and
/// returns what it said. Where it refuses or finds damage not a byte has changed of the files named
/// and of those beside them, and none has come or gone.
ProgramResult expect_status(int status, const Words& arguments, const Words& texts = {},
                            std::source_location here = std::source_location::current());
/// The same, however it ends.
ProgramResult expect_said(const Words& arguments, const Words& texts,
                          std::source_location here = std::source_location::current());
/// Where the test cannot go on without: throws when it does not succeed.
ProgramResult succeeds(const Words& arguments, const Words& texts = {},
                       std::source_location here = std::source_location::current());

/// What `survey --json` says of a guest.
nlohmann::json survey_of(const Words& images);

/// The disk of a raw image in one of that form beside it; of "raw" and "img": itself.
std::string in_form(const std::string& raw, const std::string& form);
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
