// Sizes that tests are written with.
#pragma once

#include <cstdint>

namespace jh::test {

inline constexpr std::uint64_t mib = 1ULL << 20;

/// Whether sanitizers make each operation slow.
#ifdef JUNEHEATH_SANITIZED
inline constexpr bool is_sanitized = true;
#else
inline constexpr bool is_sanitized = false;
#endif

/// Every how manyeth operation is troubled: all of them, but where each one is slow.
constexpr std::uint64_t stride_of(std::uint64_t sanitized) { return is_sanitized ? sanitized : 1; }

}  // namespace jh::test
