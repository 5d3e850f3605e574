// Arithmetic on numbers read from disk: overflow is damage, not undefined behaviour.
#pragma once

#include <cstdint>
#include <limits>

#include "core/base/errors.h"

namespace jh {

inline std::uint64_t checked_add(std::uint64_t a, std::uint64_t b) {
  std::uint64_t sum = 0;
  if (__builtin_add_overflow(a, b, &sum)) damaged("the sum of on-disk numbers overflows 64 bits");
  return sum;
}
inline std::uint64_t checked_mul(std::uint64_t a, std::uint64_t b) {
  std::uint64_t product = 0;
  if (__builtin_mul_overflow(a, b, &product))
    damaged("a product of on-disk numbers overflows 64 bits");
  return product;
}
inline std::uint64_t checked_sub(std::uint64_t a, std::uint64_t b) {
  if (b > a) damaged("a difference of on-disk numbers is negative");
  return a - b;
}
template <class To>
To checked_cast(std::uint64_t value) {
  if (value > static_cast<std::uint64_t>(std::numeric_limits<To>::max()))
    damaged("an on-disk number does not fit its field");
  return static_cast<To>(value);
}

constexpr std::uint64_t ceil_div(std::uint64_t a, std::uint64_t b) {
  return a / b + (a % b != 0 ? 1 : 0);
}
constexpr std::uint64_t round_down(std::uint64_t a, std::uint64_t unit) { return a - a % unit; }
inline std::uint64_t round_up(std::uint64_t a, std::uint64_t unit) {
  return checked_mul(ceil_div(a, unit), unit);
}
constexpr bool is_power_of_two(std::uint64_t a) { return a != 0 && (a & (a - 1)) == 0; }

}  // namespace jh
