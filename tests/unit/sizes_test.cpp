#include "core/base/sizes.h"

#include <gtest/gtest.h>

namespace jh::test {
namespace {

Status status_of(const std::string& text) {
  try {
    parse_size(text);
    return Status::done;
  } catch (const Error& error) {
    return error.status();
  }
}

TEST(Sizes, ReadsEveryUnit) {
  EXPECT_EQ(parse_size("4096B").value(), 4096U);
  EXPECT_EQ(parse_size("1048576").value(), 1U << 20);
  EXPECT_EQ(parse_size("0").value(), 0U);
  EXPECT_EQ(parse_size("+20G").value(), 20ULL << 30);
  EXPECT_EQ(parse_size("40GiB").value(), 40ULL << 30);
  EXPECT_EQ(parse_size("40G").value(), 40ULL << 30);
  EXPECT_EQ(parse_size("40GB").value(), 40'000'000'000ULL);
  EXPECT_EQ(parse_size("512 MiB").value(), 512ULL << 20);
  EXPECT_EQ(parse_size("1.5TiB").value(), 3ULL << 39);
}

TEST(Sizes, FractionsAreNeverRoundedAgainstTheUser) {
  EXPECT_EQ(parse_size("0.1KiB").value(), 103U);  // 102.4
  EXPECT_EQ(parse_size("0.5B").value(), 1U);
}

TEST(Sizes, RefusesWhatIsNoSize) {
  for (const char* text : {"", "GiB", "1.2.3G", "12Q", "-5G", "17EiB", "1e9", "10 000",
                           "99999999999999999999999G", "0x10", "20000", "1", "1048575"})
    EXPECT_EQ(status_of(text), Status::usage) << text;
}

TEST(Sizes, WritesWhatCannotBeMisread) {
  EXPECT_EQ(human(Bytes(0)), "0 B");
  EXPECT_EQ(human(320_MiB), "320 MiB");
  EXPECT_EQ(human(Bytes(1'409'286'144)), "1.31 GiB");
  EXPECT_EQ(grouped(1'409'286'144), "1 409 286 144");
  EXPECT_EQ(grouped(12), "12");
  EXPECT_EQ(spelled_out(1_GiB), "1 GiB (1.07 GB, 1 073 741 824 bytes)");
}

// What was written in one unit is not answered in another.
TEST(Sizes, PasteSizesAreShort) {
  for (const char* text : {"2.75TB", "40GiB", "1.5TiB", "512MiB", "320GB", "1KB", "1.25GiB"})
    EXPECT_EQ(paste_size(parse_size(text)), text);
}

TEST(Sizes, PasteSizesReadBackExactly) {
  for (const std::uint64_t size : {0ULL, 1ULL, 1000ULL, 1ULL << 30, (1ULL << 40) + 512, 3ULL << 62})
    EXPECT_EQ(parse_size(paste_size(Bytes(size))).value(), size);
}

TEST(Sizes, ArithmeticIsChecked) {
  EXPECT_THROW(Bytes(1) - Bytes(2), Error);
  EXPECT_THROW(Bytes(UINT64_MAX) + Bytes(1), Error);
  EXPECT_THROW(to_bytes(Sectors(1ULL << 60), 512), Error);
  EXPECT_THROW(round_up(UINT64_MAX, 4096), Error);
}

}  // namespace
}  // namespace jh::test
