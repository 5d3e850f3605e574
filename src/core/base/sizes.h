// Sizes with types, and their text. A count of sectors cannot be passed where bytes are meant.
#pragma once

#include <compare>
#include <cstdint>
#include <string>

#include "core/base/checked.h"

namespace jh {

/// An unsigned count of one unit; arithmetic is checked (overflow and negative differences throw).
template <class Unit>
class Count {
 public:
  constexpr Count() = default;
  constexpr explicit Count(std::uint64_t value) : value_(value) {}
  constexpr std::uint64_t value() const { return value_; }
  constexpr auto operator<=>(const Count&) const = default;
  Count operator+(Count other) const { return Count(checked_add(value_, other.value_)); }
  Count operator-(Count other) const { return Count(checked_sub(value_, other.value_)); }
  Count& operator+=(Count other) { return *this = *this + other; }
  Count& operator-=(Count other) { return *this = *this - other; }

 private:
  std::uint64_t value_ = 0;
};

using Bytes = Count<struct BytesUnit>;
using Sectors = Count<struct SectorsUnit>;  // logical sectors of one disk; also an LBA
using Blocks = Count<struct BlocksUnit>;    // filesystem blocks; also a block number

constexpr Bytes operator""_KiB(unsigned long long n) { return Bytes(n << 10); }
constexpr Bytes operator""_MiB(unsigned long long n) { return Bytes(n << 20); }
constexpr Bytes operator""_GiB(unsigned long long n) { return Bytes(n << 30); }
constexpr Bytes operator""_TiB(unsigned long long n) { return Bytes(n << 40); }

inline Bytes to_bytes(Sectors count, std::uint32_t sector_size) {
  return Bytes(checked_mul(count.value(), sector_size));
}

/// Reads "40GiB", "40GB", "40G" (= GiB), "1.5TiB", "512MiB", "4096". A fraction that is no whole
/// number of bytes counts as the next whole one (never against the user). Throws usage errors.
Bytes parse_size(const std::string& text);

/// "1.31 GiB": three significant figures, binary unit; exact values lose their decimals ("320
/// MiB").
std::string human(Bytes size);
/// "1.41 GB": the same in decimal units.
std::string human_decimal(Bytes size);
/// "1 409 286 144": digits in groups of three.
std::string grouped(std::uint64_t number);
/// "1 block", "3 blocks": of a word that takes an s.
std::string counted(std::uint64_t count, const char* what);
/// "1.31 GiB (1.41 GB, 1 409 286 144 bytes)": what no one can misread.
std::string spelled_out(Bytes size);
/// The shortest exact text that parse_size reads back: "2GiB", "1536MiB", "1000".
std::string paste_size(Bytes size);

}  // namespace jh
