#include "core/base/printable.h"

#include <algorithm>
#include <cstdint>

namespace jh {
namespace {

// The length of the UTF-8 sequence that begins here; 0: there is none.
std::size_t sequence_at(std::string_view text, std::size_t at, std::uint32_t& code) {
  const auto byte = [&](std::size_t i) { return static_cast<std::uint8_t>(text[at + i]); };
  const std::uint8_t first = byte(0);
  const std::size_t length = first < 0x80             ? 1
                             : (first & 0xE0) == 0xC0 ? 2
                             : (first & 0xF0) == 0xE0 ? 3
                             : (first & 0xF8) == 0xF0 ? 4
                                                      : 0;
  if (length == 0 || at + length > text.size()) return 0;
  code = length == 1 ? first : first & (0x7FU >> length);
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xC0) != 0x80) return 0;
    code = code << 6 | (byte(i) & 0x3FU);
  }
  constexpr std::uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
  const bool sound = code >= least[length] && code <= 0x10FFFF && (code < 0xD800 || code > 0xDFFF);
  return sound ? length : 0;
}

bool is_harmless(std::uint32_t code) {
  const bool control = code < 0x20 || (code >= 0x7F && code < 0xA0);
  const bool separator = code == 0x2028 || code == 0x2029 || code == 0xFEFF;
  const bool turns = code == 0x061C || code == 0x200E || code == 0x200F ||
                     (code >= 0x202A && code <= 0x202E) || (code >= 0x2066 && code <= 0x2069);
  return !control && !separator && !turns;
}

}  // namespace

std::string printable(std::string_view text) {
  constexpr char digits[] = "0123456789abcdef";
  std::string shown;
  for (std::size_t at = 0; at < text.size();) {
    std::uint32_t code = 0;
    const std::size_t length = sequence_at(text, at, code);
    if (length != 0 && is_harmless(code)) {
      shown += text.substr(at, length);
      at += length;
      continue;
    }
    for (std::size_t i = 0; i < std::max<std::size_t>(length, 1); ++i) {
      const auto byte = static_cast<std::uint8_t>(text[at + i]);
      if (byte == '\n')
        shown += "\\n";
      else if (byte == '\t')
        shown += "\\t";
      else
        (shown += "\\x") += {digits[byte >> 4], digits[byte & 15]};
    }
    at += std::max<std::size_t>(length, 1);
  }
  return shown;
}

}  // namespace jh
