// The words for the values of an enum.
#pragma once

#include <array>
#include <cstddef>

namespace jh {

/// One word for each value, in the order of the enum, of which `last` is the last one: what lacks a
/// word does not compile.
template <auto last, class... Words>
constexpr const char* word_of(decltype(last) value, Words... words) {
  static_assert(sizeof...(words) == static_cast<std::size_t>(last) + 1, "one word for each value");
  const std::array<const char*, sizeof...(words)> all{words...};
  return all.at(static_cast<std::size_t>(value));
}

}  // namespace jh
