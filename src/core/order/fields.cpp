#include "core/order/fields.h"

#include <fmt/format.h>

#include <cctype>
#include <ctime>
#include <sstream>

#include "core/base/sizes.h"

namespace jh {

void Fields::invalid(const toml::node& at, const std::string& what, const Advice& allowed) const {
  wrong_line(static_cast<int>(at.source().begin.line), what, allowed);
}
void Fields::wrong_line(int line, const std::string& what, const Advice& allowed) const {
  throw Error(Status::usage, what, fmt::format("{}, line {}", path_, line), allowed);
}

const toml::table* Fields::table_at(const toml::table& root, const char* name) const {
  const toml::node* node = root.get(name);
  if (node == nullptr) return nullptr;
  if (!node->is_table())
    invalid(*node, fmt::format("{} is not a table", name), fmt::format("write [{}]", name));
  return node->as_table();
}

std::string Fields::text_of(const toml::node& node, const std::string& key,
                            const Advice& allowed) const {
  if (const auto value = node.value<std::string>(); value && node.is_string()) return *value;
  invalid(node, key + " is not a text", allowed);
}

std::size_t Fields::count_of(const toml::node& node, const std::string& key, std::int64_t least,
                             std::int64_t most) const {
  const auto value = node.value<std::int64_t>();
  if (!node.is_integer() || !value || *value < least || *value > most)
    invalid(node, key + " is not a number that is allowed",
            fmt::format("use {} to {}", least, most));
  return static_cast<std::size_t>(*value);
}

std::uint64_t Fields::size_of(const toml::node& node, const std::string& key) const {
  const std::string text = text_of(node, key, "use a size, such as \"2GiB\"");
  try {
    return parse_size(text).value();
  } catch (const Error& error) {
    invalid(node, std::string(key) + ": " + error.what(), error.next());
  }
}

std::int64_t Fields::deadline_of(const toml::node& node, std::int64_t now) const {
  if (const auto moment = node.value<toml::date_time>(); moment && node.is_date_time()) {
    std::tm parts{};
    parts.tm_year = moment->date.year - 1900;
    parts.tm_mon = moment->date.month - 1;
    parts.tm_mday = moment->date.day;
    parts.tm_hour = moment->time.hour;
    parts.tm_min = moment->time.minute;
    parts.tm_sec = moment->time.second;
    parts.tm_isdst = -1;
    if (moment->offset) return ::timegm(&parts) - moment->offset->minutes * 60;
    return ::mktime(&parts);
  }
  const std::string allowed =
      "use a date and time (2026-11-27T05:00:00), or a time from now (\"2h30min\")";
  const std::string text = text_of(node, "deadline", allowed);
  std::int64_t seconds = 0;
  std::istringstream words(text);
  for (std::int64_t number = 0; words >> number;) {
    std::string unit;
    while (words && std::isalpha(words.peek()) != 0) unit += static_cast<char>(words.get());
    if (number < 0 || number > 100000) invalid(node, "the deadline is not understood", allowed);
    if (unit == "h")
      seconds += number * 3600;
    else if (unit == "min")
      seconds += number * 60;
    else if (unit == "s")
      seconds += number;
    else
      invalid(node, "the deadline is not understood", allowed);
  }
  if (!words.eof() || seconds == 0) invalid(node, "the deadline is not understood", allowed);
  return now + seconds;
}

std::vector<std::string> Fields::texts_of(const toml::node& node, const std::string& key) const {
  if (node.is_string()) return {*node.value<std::string>()};
  std::vector<std::string> all;
  if (const toml::array* list = node.as_array())
    for (const toml::node& item : *list)
      all.push_back(text_of(item, key, "use texts: [\"a\", \"b\"]"));
  else
    invalid(node, key + " is neither a text nor a list of texts", "use [\"a\", \"b\"]");
  return all;
}

}  // namespace jh
