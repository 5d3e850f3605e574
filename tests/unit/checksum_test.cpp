#include "core/base/checksum.h"

#include "core/base/uuid.h"
#include "support/test.h"

namespace jh::test {
namespace {

std::span<const std::uint8_t> bytes(std::string_view text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}

// The check values that the catalogues of these sums publish for "123456789".
TEST(Checksums, MatchPublishedCheckValues) {
  EXPECT_EQ(crc32(bytes("123456789")), 0xCBF43926U);
  EXPECT_EQ(crc32c(bytes("123456789")), 0xE3069283U);
  EXPECT_EQ(crc16(0, bytes("123456789")), 0xBB3DU);                  // CRC-16/ARC
  EXPECT_EQ(crc32_msb_first(~0U, bytes("123456789")), 0x0376E6E7U);  // CRC-32/MPEG-2
}

TEST(Checksums, PiecesChain) {
  const std::uint32_t whole = crc32c_raw(7, bytes("meadow pipit"));
  EXPECT_EQ(crc32c_raw(crc32c_raw(7, bytes("meadow ")), bytes("pipit")), whole);
}

TEST(Uuids, HaveTwoByteOrders) {
  const Uuid id{0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47,
                0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4};
  EXPECT_EQ(uuid_text(id), "af3dc60f-8384-7247-8e79-3d69d8477de4");
  EXPECT_EQ(guid_text(id), "0fc63daf-8483-4772-8e79-3d69d8477de4");
  EXPECT_TRUE(is_zero(Uuid{}));
}

}  // namespace
}  // namespace jh::test
