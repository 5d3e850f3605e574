#include "core/fs/ext/name_hash.h"

#include <algorithm>
#include <bit>

#include "core/base/errors.h"

namespace jh::ext {
namespace {

using Words = std::array<std::uint32_t, 8>;
using State = std::array<std::uint32_t, 4>;

std::uint32_t character(char c, bool is_signed) {
  const auto byte = static_cast<unsigned char>(c);
  return is_signed
             ? static_cast<std::uint32_t>(static_cast<std::int32_t>(static_cast<std::int8_t>(byte)))
             : byte;
}

// The first 4 × `count` characters, four a word, the first one highest; what is missing is filled
// with the length, repeated in every byte.
Words pack(std::string_view text, std::size_t count, bool is_signed) {
  auto filling = static_cast<std::uint32_t>(text.size() & 0xFF);
  filling |= filling << 8;
  filling |= filling << 16;
  // A length above 255 cannot occur: names have a one-byte length.
  Words words;
  words.fill(filling);
  const std::size_t used = std::min(text.size(), count * 4);
  for (std::size_t i = 0; i < used; ++i)
    words[i / 4] = (words[i / 4] << 8) + character(text[i], is_signed);
  return words;
}

void mix_half_md4(State& state, const Words& in) {
  struct Round {
    std::uint32_t (*mix)(std::uint32_t, std::uint32_t, std::uint32_t);
    std::uint32_t constant;
    std::array<std::uint8_t, 8> order;
    std::array<int, 4> turns;
  };
  static constexpr std::array<Round, 3> rounds{{
      {[](std::uint32_t x, std::uint32_t y, std::uint32_t z) { return (x & y) | (~x & z); },
       0,
       {0, 1, 2, 3, 4, 5, 6, 7},
       {3, 7, 11, 19}},
      {[](std::uint32_t x, std::uint32_t y, std::uint32_t z) {
         return (x & y) | (x & z) | (y & z);
       },
       0x5A827999,
       {1, 3, 5, 7, 0, 2, 4, 6},
       {3, 5, 9, 13}},
      {[](std::uint32_t x, std::uint32_t y, std::uint32_t z) { return x ^ y ^ z; },
       0x6ED9EBA1,
       {3, 7, 2, 6, 1, 5, 0, 4},
       {3, 9, 11, 15}},
  }};
  State work = state;
  for (const Round& round : rounds) {
    for (std::size_t i = 0; i < 8; ++i) {
      // Each step changes one word; the four take turns, backwards: a, d, c, b.
      const std::size_t at = (4 - i % 4) % 4;
      const std::uint32_t mixed =
          round.mix(work[(at + 1) % 4], work[(at + 2) % 4], work[(at + 3) % 4]);
      work[at] =
          std::rotl(work[at] + mixed + in[round.order[i]] + round.constant, round.turns[i % 4]);
    }
  }
  for (std::size_t i = 0; i < 4; ++i) state[i] += work[i];
}

void mix_tea(State& state, const Words& in) {
  std::uint32_t sum = 0;
  std::uint32_t left = state[0];
  std::uint32_t right = state[1];
  for (int cycle = 0; cycle < 16; ++cycle) {
    sum += 0x9E3779B9;
    left += ((right << 4) + in[0]) ^ (right + sum) ^ ((right >> 5) + in[1]);
    right += ((left << 4) + in[2]) ^ (left + sum) ^ ((left >> 5) + in[3]);
  }
  state[0] += left;
  state[1] += right;
}

std::uint32_t legacy(std::string_view name, bool is_signed) {
  std::uint32_t now = 0x12A3FE2D;
  std::uint32_t before = 0x37ABE8F9;
  for (const char c : name) {
    std::uint32_t next = before + (now ^ (character(c, is_signed) * 7152373U));
    if ((next & 0x80000000U) != 0) next -= 0x7FFFFFFFU;
    before = now;
    now = next;
  }
  return now << 1;
}

}  // namespace

std::uint32_t NameHash::of(std::string_view name) const {
  ensure(kind != HashKind::keyed, "this hash can be computed without a key");
  State state{0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476};
  if (std::any_of(seed.begin(), seed.end(), [](std::uint32_t word) { return word != 0; }))
    state = seed;
  std::uint32_t hash = 0;
  if (kind == HashKind::legacy) {
    hash = legacy(name, signed_chars);
  } else {
    const std::size_t words = kind == HashKind::tea ? 4 : 8;
    for (std::string_view rest = name; !rest.empty();
         rest.remove_prefix(std::min(rest.size(), words * 4))) {
      const Words in = pack(rest, words, signed_chars);
      kind == HashKind::tea ? mix_tea(state, in) : mix_half_md4(state, in);
    }
    hash = state[kind == HashKind::tea ? 0 : 1];
  }
  hash &= ~1U;
  // The highest value marks the end of a directory for those who list it.
  constexpr std::uint32_t end_of_directory = 0xFFFFFFFE;
  return hash == end_of_directory ? end_of_directory - 2 : hash;
}

}  // namespace jh::ext
