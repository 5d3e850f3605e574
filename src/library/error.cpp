#include "library/command_text.h"
#include "library/inside.h"

namespace juneheath {
namespace {

// The public words are those of the core, in the same order.
static_assert(static_cast<int>(Status::unsupported) == static_cast<int>(jh::Status::unsupported));
static_assert(static_cast<int>(Status::refused) == static_cast<int>(jh::Status::refused));
static_assert(static_cast<int>(Left::unchanged) == static_cast<int>(jh::Outcome::unchanged));
static_assert(static_cast<int>(Left::done) == static_cast<int>(jh::Outcome::done));

Suggestion public_suggestion(const jh::Suggestion& command) {
  Suggestion shown{command.command, command.images, {}, command.reason};
  for (const auto& option : command.options) shown.options.push_back({option.name, option.value});
  return shown;
}

}  // namespace

Error::Error(Status status, const std::string& what, std::string where, std::string next,
             std::vector<Suggestion> suggestions, Left left)
    : std::runtime_error(what),
      status_(status),
      where_(std::move(where)),
      next_(std::move(next)),
      suggestions_(std::move(suggestions)),
      left_(left) {}
Error::~Error() = default;
Error::Error(const Error&) = default;
Error& Error::operator=(const Error&) = default;

Error public_error(const jh::Error& error) {
  std::vector<Suggestion> suggestions;
  for (const jh::Advice::Part& part : error.next().parts())
    if (const auto* command = std::get_if<jh::Suggestion>(&part))
      suggestions.push_back(public_suggestion(*command));
  return {static_cast<Status>(error.status()),
          error.what(),
          error.where(),
          error.next().text(jh::command_text),
          std::move(suggestions),
          static_cast<Left>(error.outcome())};
}

}  // namespace juneheath
