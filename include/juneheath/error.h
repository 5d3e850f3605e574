// What can go wrong, and what helps.
#pragma once

#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

#pragma GCC visibility push(default)

namespace juneheath {

/// How a command that ends so exits; the numbers are those of the program.
enum class Status {
  done = 0,
  internal = 1,
  usage = 2,        // what was asked for makes no sense
  refused = 3,      // something stands in the way; nothing was changed
  damaged = 4,      // damage was found; nothing was changed
  io = 5,           // input or output failed
  unsupported = 6,  // named, and left alone
};

/// What a failure left behind, as far as it is certain.
enum class Left {
  unsaid,
  unchanged,   // every image is as it was
  sound,       // something was done; the guest sees what it saw
  unfinished,  // recover() has to finish it or roll it back
  done,        // what was asked for is done; something behind it failed
};

/// A command that would help, as data.
struct Suggestion {
  struct Option {
    std::string name;  // without dashes
    std::optional<std::string> value;
  };
  std::string command;              // "grow"
  std::vector<std::string> images;  // NEW stands for a name to be chosen
  std::vector<Option> options;
  std::string reason;  // may be empty
};

class Error : public std::runtime_error {
 public:
  Error(Status status, const std::string& what, std::string where, std::string next,
        std::vector<Suggestion> suggestions, Left left);
  ~Error() override;
  Error(const Error&);
  Error& operator=(const Error&);

  Status status() const { return status_; }
  /// The image, the layer, the offset; may be empty.
  const std::string& where() const { return where_; }
  /// What to do next, in words, with commands as they are typed.
  const std::string& next() const { return next_; }
  const std::vector<Suggestion>& suggestions() const { return suggestions_; }
  Left left() const { return left_; }

 private:
  Status status_;
  std::string where_;
  std::string next_;
  std::vector<Suggestion> suggestions_;
  Left left_;
};

}  // namespace juneheath

#pragma GCC visibility pop
