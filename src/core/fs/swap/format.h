// The header of a swap area, as mkswap(8) and the kernel's swap_header define it (version 1). The
// byte order is the guest's; the version field tells which.
#pragma once

#include <array>
#include <cstdint>
#include <string_view>

#include "core/base/endian.h"
#include "core/base/uuid.h"

namespace jh::swap {

constexpr std::uint64_t header_offset = 1024;
constexpr std::string_view signature = "SWAPSPACE2";  // the last bytes of the first page
/// What a hibernated guest writes in the signature's place.
constexpr std::array<std::string_view, 5> hibernation_signatures{
    "S1SUSPEND", "S2SUSPEND", "ULSUSPEND", "LINHIB0001", "\xed\xc3\x02\xe9\x98\x56\xe5\x0c"};
constexpr std::array<std::uint64_t, 5> page_sizes{4096, 8192, 16384, 32768, 65536};

template <class Word>
struct Header {
  Word version;    // 1
  Word last_page;  // number of the last usable page
  Word bad_pages;
  Uuid uuid;
  std::array<char, 16> label;
};
static_assert(sizeof(Header<Le32>) == 44);

}  // namespace jh::swap
