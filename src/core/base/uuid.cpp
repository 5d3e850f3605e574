#include "core/base/uuid.h"

#include <algorithm>
#include <boost/uuid/uuid.hpp>
#include <boost/uuid/uuid_io.hpp>
#include <cctype>
#include <random>
#include <string_view>

namespace jh {

std::string uuid_text(const Uuid& id) {
  boost::uuids::uuid value{};
  std::copy(id.begin(), id.end(), value.begin());
  return boost::uuids::to_string(value);
}

std::string guid_text(const Uuid& id) {
  Uuid swapped = id;
  std::reverse(swapped.begin(), swapped.begin() + 4);
  std::reverse(swapped.begin() + 4, swapped.begin() + 6);
  std::reverse(swapped.begin() + 6, swapped.begin() + 8);
  return uuid_text(swapped);
}

std::string fold_case(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return text;
}

bool is_zero(const Uuid& id) {
  return std::all_of(id.begin(), id.end(), [](std::uint8_t byte) { return byte == 0; });
}

Uuid random_guid() {
  std::random_device source;
  Uuid id{};
  for (std::uint8_t& byte : id) byte = static_cast<std::uint8_t>(source());
  id[7] = static_cast<std::uint8_t>((id[7] & 0x0F) | 0x40);  // the third field is little-endian
  id[8] = static_cast<std::uint8_t>((id[8] & 0x3F) | 0x80);
  return id;
}

std::string random_letters(std::size_t length) {
  constexpr std::string_view letters =
      "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";
  std::random_device source;
  std::uniform_int_distribution<std::size_t> pick(0, letters.size() - 1);
  std::string text;
  while (text.size() < length) text += letters[pick(source)];
  return text;
}

}  // namespace jh
