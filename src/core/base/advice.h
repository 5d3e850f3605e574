// Advice: what a technician can do next, as sentences and as commands. A command is data here; who
// shows it knows how it is typed.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

namespace jh {

/// One command that helps.
struct Suggestion {
  struct Option {
    std::string name;                  // "by", without dashes
    std::optional<std::string> value;  // "10GiB"; nothing: it takes none
  };
  std::string command;              // "grow"
  std::vector<std::string> images;  // as they were named; NEW stands for a name to be chosen
  std::vector<Option> options;
  std::string reason;  // what it is for, in a few words; may be empty

  bool empty() const { return command.empty(); }
  Suggestion& with(std::string name, std::optional<std::string> value = {}) & {
    options.push_back({std::move(name), std::move(value)});
    return *this;
  }
  Suggestion&& with(std::string name, std::optional<std::string> value = {}) && {
    options.push_back({std::move(name), std::move(value)});
    return std::move(*this);
  }
  Suggestion&& because(std::string text) && {
    reason = std::move(text);
    return std::move(*this);
  }
};

inline Suggestion suggest(std::string command, std::vector<std::string> images = {}) {
  return {std::move(command), std::move(images), {}, {}};
}

/// How a suggestion is typed, by whoever shows it.
using CommandText = std::function<std::string(const Suggestion&)>;

/// Sentences in which commands stand. Text and commands convert to it, and are joined with +.
class Advice {
 public:
  using Part = std::variant<std::string, Suggestion>;

  Advice() = default;
  Advice(const char* text) : Advice(std::string(text)) {}
  Advice(std::string text) {
    if (!text.empty()) parts_.emplace_back(std::move(text));
  }
  Advice(Suggestion command) { parts_.emplace_back(std::move(command)); }

  bool empty() const { return parts_.empty(); }
  const std::vector<Part>& parts() const { return parts_; }
  /// The first command in it; null: there is none.
  const Suggestion* command() const {
    for (const Part& part : parts_)
      if (const auto* found = std::get_if<Suggestion>(&part)) return found;
    return nullptr;
  }
  std::string text(const CommandText& typed) const {
    std::string all;
    for (const Part& part : parts_) {
      const auto* command = std::get_if<Suggestion>(&part);
      all += command == nullptr ? std::get<std::string>(part) : typed(*command);
    }
    return all;
  }

  Advice& operator+=(const Advice& more) {
    parts_.insert(parts_.end(), more.parts_.begin(), more.parts_.end());
    return *this;
  }

 private:
  std::vector<Part> parts_;
};

/// Of text and commands too, in any order.
inline Advice operator+(Advice first, const Advice& second) { return first += second; }

}  // namespace jh
