#include "core/store/utf16.h"

#include <boost/locale/encoding_utf.hpp>

namespace jh {

std::string text_from_utf16(ConstByteSpan raw, bool big_endian) {
  // Most text is plain letters.
  std::string plain(raw.size() / 2, '\0');
  std::size_t length = 0;
  for (; length < plain.size(); ++length) {
    const std::uint8_t high = raw[2 * length + (big_endian ? 0 : 1)];
    const std::uint8_t low = raw[2 * length + (big_endian ? 1 : 0)];
    if (high != 0 || low == 0 || low >= 0x80) break;
    plain[length] = static_cast<char>(low);
  }
  if (length == plain.size() || (raw[2 * length] == 0 && raw[2 * length + 1] == 0)) {
    plain.resize(length);
    return plain;
  }
  std::u16string units;
  units.reserve(raw.size() / 2);
  for (std::size_t i = 0; i + 1 < raw.size(); i += 2) {
    const auto unit =
        static_cast<char16_t>(big_endian ? raw[i] << 8 | raw[i + 1] : raw[i + 1] << 8 | raw[i]);
    if (unit == 0) break;
    units += unit;
  }
  return boost::locale::conv::utf_to_utf<char>(units);
}

std::u16string utf16_units(ConstByteSpan raw) {
  std::u16string units(raw.size() / 2, u'\0');
  for (std::size_t i = 0; i < units.size(); ++i)
    units[i] = static_cast<char16_t>(raw[2 * i + 1] << 8 | raw[2 * i]);
  return units;
}

Buffer utf16_from_text(const std::string& text) {
  Buffer raw;
  for (const char16_t unit : boost::locale::conv::utf_to_utf<char16_t>(text)) {
    raw.push_back(static_cast<std::uint8_t>(unit & 0xff));
    raw.push_back(static_cast<std::uint8_t>(unit >> 8));
  }
  return raw;
}

}  // namespace jh
