#include "core/fs/text_at.h"

namespace jh {

std::string text_at(Store& place, std::uint64_t offset, std::size_t length) {
  if (offset + length > place.size()) return {};
  const Buffer raw = read_buffer(place, offset, length);
  std::string text;
  for (const std::uint8_t c : raw) {
    if (c == 0) break;
    text += c < 0x20 ? '?' : static_cast<char>(c);
  }
  while (text.ends_with(' ')) text.pop_back();
  return text;
}

}  // namespace jh
