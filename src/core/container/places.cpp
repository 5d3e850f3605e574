#include "core/container/places.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh {

std::string Places::Place::name() const {
  return number == no_number ? std::string(what) : fmt::format("{} {}", what, number);
}

void Places::add(std::uint64_t at, std::uint64_t length, std::uint64_t least, const char* what,
                 std::uint64_t number) {
  places_.push_back({at, checked_add(at, length), checked_add(at, least), what, number});
}

void Places::report(const std::string& where, std::uint64_t file_end, Findings& findings) {
  std::sort(places_.begin(), places_.end(),
            [](const Place& a, const Place& b) { return a.at < b.at; });
  for (std::size_t i = 0; i < places_.size(); ++i) {
    if (places_[i].least_end > file_end)
      findings.add(where, places_[i].name() + " reaches past the file's end");
    if (i != 0 && places_[i].at < places_[i - 1].end)
      findings.add(where, fmt::format("{} and {} lie in the same place", places_[i - 1].name(),
                                      places_[i].name()));
  }
}

}  // namespace jh
