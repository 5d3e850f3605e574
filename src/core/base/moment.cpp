#include "core/base/moment.h"

#include <fmt/chrono.h>

namespace jh {
namespace {

std::string written(std::time_t time, fmt::format_string<std::tm&> format) {
  std::tm parts{};
  return ::gmtime_r(&time, &parts) == nullptr ? "an unknown time" : fmt::format(format, parts);
}

}  // namespace

std::string minute_of(std::uint64_t seconds) {
  return written(static_cast<std::time_t>(seconds), "{:%Y-%m-%d %H:%M} UTC");
}

std::string moment(std::int64_t seconds) { return written(seconds, "{:%Y-%m-%d %H:%M:%S} UTC"); }

}  // namespace jh
