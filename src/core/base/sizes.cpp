#include "core/base/sizes.h"

#include <fmt/format.h>

#include <array>
#include <boost/multiprecision/cpp_int.hpp>
#include <cctype>
#include <string_view>

namespace jh {
namespace {

struct UnitName {
  std::string_view name;
  std::uint64_t factor;
};

constexpr std::array<UnitName, 21> unit_names{{
    {"", 1},
    {"B", 1},
    {"K", 1ULL << 10},
    {"KiB", 1ULL << 10},
    {"KB", 1000ULL},
    {"kB", 1000ULL},
    {"M", 1ULL << 20},
    {"MiB", 1ULL << 20},
    {"MB", 1000'000ULL},
    {"G", 1ULL << 30},
    {"GiB", 1ULL << 30},
    {"GB", 1000'000'000ULL},
    {"T", 1ULL << 40},
    {"TiB", 1ULL << 40},
    {"TB", 1000'000'000'000ULL},
    {"P", 1ULL << 50},
    {"PiB", 1ULL << 50},
    {"PB", 1000'000'000'000'000ULL},
    {"E", 1ULL << 60},
    {"EiB", 1ULL << 60},
    {"bytes", 1},
}};

[[noreturn]] void bad_size(const std::string& text, const std::string& why) {
  wrong_usage(fmt::format("\"{}\" is not a size: {}", text, why),
              "write for example 40GiB, 40GB, 1.5TiB, 512MiB or plain bytes (40G means 40GiB)");
}

using Wide = boost::multiprecision::uint256_t;

// "12.5" as a numerator over a power of ten, so that fractions stay exact.
struct Decimal {
  Wide numerator = 0;
  Wide denominator = 1;
};

Decimal parse_decimal(const std::string& text, std::string_view digits) {
  Decimal number;
  bool after_point = false;
  bool any_digit = false;
  for (const char c : digits) {
    if (c == '.') {
      if (after_point) bad_size(text, "it has two decimal points");
      after_point = true;
      continue;
    }
    any_digit = true;
    if (number.numerator > UINT64_MAX) bad_size(text, "it has too many digits");
    number.numerator = number.numerator * 10 + static_cast<unsigned>(c - '0');
    if (after_point) number.denominator *= 10;
  }
  if (!any_digit) bad_size(text, "it has no digits");
  return number;
}

std::string in_units(std::uint64_t bytes, std::uint64_t base,
                     const std::array<const char*, 7>& names) {
  std::size_t unit = 0;
  std::uint64_t factor = 1;
  while (unit + 1 < names.size() && bytes / factor >= base) {
    factor *= base;
    ++unit;
  }
  if (bytes % factor == 0) return fmt::format("{} {}", bytes / factor, names[unit]);
  const double value = static_cast<double>(bytes) / static_cast<double>(factor);
  const int decimals = value < 10 ? 2 : value < 100 ? 1 : 0;
  return fmt::format("{:.{}f} {}", value, decimals, names[unit]);
}

}  // namespace

Bytes parse_size(const std::string& written) {
  // "+20G" is how much more it is to be; whoever takes a total looks for the sign himself.
  const std::string text = written.starts_with('+') ? written.substr(1) : written;
  const std::size_t split = text.find_first_not_of("0123456789.");
  const std::string_view whole(text);
  std::string_view suffix = split == std::string::npos ? std::string_view{} : whole.substr(split);
  const Decimal number = parse_decimal(text, whole.substr(0, whole.size() - suffix.size()));
  while (!suffix.empty() && std::isspace(static_cast<unsigned char>(suffix.front())) != 0)
    suffix.remove_prefix(1);
  for (const UnitName& unit : unit_names) {
    if (unit.name != suffix) continue;
    // 0.1GiB is no whole number of bytes; taking the bytes below it would round against the user.
    const Wide bytes =
        (number.numerator * unit.factor + number.denominator - 1) / number.denominator;
    if (bytes > UINT64_MAX) bad_size(text, "it is too large");
    // Nobody means 20000 bytes.
    if (suffix.empty() && bytes != 0 && bytes < (1U << 20))
      wrong_usage(fmt::format("\"{}\" has no unit: as bytes it would be {}", text,
                              human(Bytes(bytes.convert_to<std::uint64_t>()))),
                  fmt::format("write {0}MiB, {0}GiB or {0}GB; if bytes are meant: {0}B", text));
    return Bytes(bytes.convert_to<std::uint64_t>());
  }
  bad_size(text, fmt::format("unit \"{}\" is not known", suffix));
}

std::string human(Bytes size) {
  return in_units(size.value(), 1024, {"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"});
}

std::string human_decimal(Bytes size) {
  return in_units(size.value(), 1000, {"B", "kB", "MB", "GB", "TB", "PB", "EB"});
}

std::string counted(std::uint64_t count, const char* what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

std::string grouped(std::uint64_t number) {
  std::string digits = std::to_string(number);
  for (std::size_t i = digits.size(); i > 3; i -= 3) digits.insert(i - 3, " ");
  return digits;
}

std::string spelled_out(Bytes size) {
  return fmt::format("{} ({}, {} bytes)", human(size), human_decimal(size), grouped(size.value()));
}

std::string paste_size(Bytes size) {
  // In whichever unit it is short: a user who writes TB is not told of KiB.
  std::string best = std::to_string(size.value());
  if (size.value() != 0 && size.value() < (1U << 20)) best += "B";
  for (const UnitName& unit : unit_names) {
    if (unit.factor == 1 || (unit.name.size() < 2 || unit.name == "kB")) continue;
    // At most three decimals, and exact.
    const Wide thousandths = Wide(size.value()) * 1000;
    if (thousandths % unit.factor != 0 || size.value() < unit.factor) continue;
    const std::uint64_t number = (thousandths / unit.factor).convert_to<std::uint64_t>();
    std::string text = std::to_string(number / 1000);
    if (number % 1000 != 0) {
      std::string decimals = fmt::format("{:03}", number % 1000);
      decimals.resize(decimals.find_last_not_of('0') + 1);
      text += "." + decimals;
    }
    text += unit.name;
    if (text.size() <= best.size()) best = text;
  }
  return best;
}

}  // namespace jh
