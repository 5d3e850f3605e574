#include "core/base/checksum.h"

#ifdef JUNEHEATH_PLAIN_CRC
#include <boost/crc.hpp>
#else
#include <isa-l/crc.h>
#endif
#include <zlib.h>

#include <algorithm>
#include <array>
#include <limits>

namespace jh {
namespace {

template <class Word, Word polynomial, bool reflected>
constexpr std::array<Word, 256> make_table() {
  std::array<Word, 256> table{};
  constexpr int bits = std::numeric_limits<Word>::digits;
  for (unsigned i = 0; i < 256; ++i) {
    auto word = static_cast<Word>(reflected ? i : static_cast<Word>(i) << (bits - 8));
    for (int bit = 0; bit < 8; ++bit) {
      const bool carry = reflected ? (word & 1) != 0 : (word >> (bits - 1)) != 0;
      word = static_cast<Word>(reflected ? word >> 1 : word << 1);
      if (carry) word = static_cast<Word>(word ^ polynomial);
    }
    table[i] = word;
  }
  return table;
}

constexpr auto crc16_table = make_table<std::uint16_t, 0xA001, true>();
constexpr auto crc32_msb_table = make_table<std::uint32_t, 0x04C11DB7, false>();

}  // namespace

std::uint32_t crc32(std::span<const std::uint8_t> data) {
  return static_cast<std::uint32_t>(::crc32_z(0, data.data(), data.size()));
}

std::uint32_t crc32_plain(std::uint32_t seed, std::span<const std::uint8_t> data) {
  // zlib inverts before and after: undone here.
  return ~static_cast<std::uint32_t>(::crc32_z(~seed, data.data(), data.size()));
}

#ifdef JUNEHEATH_PLAIN_CRC
std::uint32_t crc32c_raw(std::uint32_t seed, std::span<const std::uint8_t> data) {
  // Its remainder goes in and comes out as the polynomial has it: the other way round.
  static constexpr auto turned = [](std::uint32_t word) {
    std::uint32_t out = 0;
    for (int bit = 0; bit < 32; ++bit, word >>= 1) out = (out << 1) | (word & 1);
    return out;
  };
  boost::crc_optimal<32, 0x1EDC6F41, 0, 0, true, true> sum(turned(seed));
  sum.process_bytes(data.data(), data.size());
  return sum.checksum();
}
#else
std::uint32_t crc32c_raw(std::uint32_t seed, std::span<const std::uint8_t> data) {
  while (!data.empty()) {
    const std::size_t piece = std::min<std::size_t>(data.size(), 1U << 30);
    // ISA-L does not write through this pointer; its prototype merely lacks the const.
    seed = crc32_iscsi(const_cast<std::uint8_t*>(data.data()), static_cast<int>(piece), seed);
    data = data.subspan(piece);
  }
  return seed;
}
#endif

std::uint32_t crc32c(std::span<const std::uint8_t> data) { return ~crc32c_raw(~0U, data); }

std::uint16_t crc16(std::uint16_t seed, std::span<const std::uint8_t> data) {
  for (const std::uint8_t byte : data)
    seed = static_cast<std::uint16_t>((seed >> 8) ^ crc16_table[(seed ^ byte) & 0xFF]);
  return seed;
}

std::uint32_t crc32_msb_first(std::uint32_t seed, std::span<const std::uint8_t> data) {
  for (const std::uint8_t byte : data)
    seed = (seed << 8) ^ crc32_msb_table[((seed >> 24) ^ byte) & 0xFF];
  return seed;
}

}  // namespace jh
