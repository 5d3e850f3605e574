// Moments as people read them, in UTC.
#pragma once

#include <cstdint>
#include <string>

namespace jh {

/// Seconds since 1970 as "2026-08-29 11:40 UTC", or with their seconds; "an unknown time" where no
/// calendar has it.
std::string minute_of(std::uint64_t seconds);
std::string moment(std::int64_t seconds);

}  // namespace jh
