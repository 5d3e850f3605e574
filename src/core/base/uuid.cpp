#include "core/base/uuid.h"

#include <algorithm>
#include <boost/uuid/uuid.hpp>
#include <boost/uuid/uuid_io.hpp>
#include <cctype>

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

}  // namespace jh
