// Sizes that tests are written with.
#pragma once

#include <cstdint>

namespace jh::test {

inline constexpr std::uint64_t mib = 1ULL << 20;

/// Every how manyeth operation is troubled: all of them, but where sanitizers make each one slow.
#ifdef JUNEHEATH_SANITIZED
constexpr std::uint64_t stride_of(std::uint64_t sanitized) { return sanitized; }
#else
constexpr std::uint64_t stride_of(std::uint64_t /*sanitized*/) { return 1; }
#endif

}  // namespace jh::test
