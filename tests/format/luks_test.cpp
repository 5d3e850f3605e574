// Encrypted layers: headers that a guest's own tool made, and headers that lie.
#include "core/luks/luks.h"

#include "core/guest/guest.h"
#include "core/luks/format.h"
#include "core/store/views.h"
#include "support/test.h"

namespace jh::test {
namespace {

// p1: version 1, p2: version 2.
class Luks : public testing::Test {
 protected:
  void SetUp() override {
    const TempFolder folder;
    unpack_sample("nested", folder / "nested.img");
    disk_.emplace(load(folder / "nested.img"));
    old_.emplace(*disk_, mib, 4 * mib, "p1");
    fresh_.emplace(*disk_, 5 * mib, 20 * mib, "p2");
  }

  std::optional<MemoryStore> disk_;
  std::optional<WindowStore> old_;
  std::optional<WindowStore> fresh_;
};

TEST_F(Luks, HeadersSayWhatTheGuestsOwnToolSays) {
  const luks::Header first = luks::read_header(*old_);
  EXPECT_EQ(first.version, 1);
  EXPECT_EQ(first.cipher, "aes-xts-plain64");
  EXPECT_EQ(first.key_bits, 512U);
  EXPECT_EQ(first.slots_in_use, 1U);
  EXPECT_EQ(first.slots, 8U);
  EXPECT_EQ(first.uuid, "8e7f0000-1111-4222-8333-444444444401");
  EXPECT_EQ(first.payload_offset, 2 * mib);
  const luks::Header second = luks::read_header(*fresh_);
  EXPECT_EQ(second.version, 2);
  EXPECT_EQ(second.cipher, "aes-xts-plain64");
  EXPECT_EQ(second.key_bits, 512U);
  EXPECT_EQ(second.slots_in_use, 1U);
  EXPECT_EQ(second.label, "stonechat");
  EXPECT_EQ(second.payload_offset, mib);
  EXPECT_FALSE(second.fixed_size);
}

TEST_F(Luks, TheCopyThatIsSoundCounts) {
  const luks::Header sound = luks::read_header(*fresh_);
  fresh_->write(5000, Buffer(64, 0xFF));  // of the first copy's text
  const luks::Header still = luks::read_header(*fresh_);
  EXPECT_EQ(still.uuid, sound.uuid);
  EXPECT_EQ(still.payload_offset, sound.payload_offset);
  fresh_->write(16384 + 5000, Buffer(64, 0xFF));
  EXPECT_THROW(luks::read_header(*fresh_), Error);
  const auto seen = luks::kind.recognise(*fresh_);
  ASSERT_TRUE(seen);
  EXPECT_FALSE(seen->header.payload);
  EXPECT_TRUE(seen->facts.blockers.empty()) << "its place may be changed";
  ASSERT_TRUE(seen->header.defect);
  EXPECT_EQ(seen->header.defect->status(), Status::damaged);
}

// Whatever the header says: an answer or an Error, and never a payload that leaves its place.
TEST_F(Luks, CorruptFieldsAreReported) {
  std::mt19937 random(20261129);
  std::size_t refused = 0;
  for (WindowStore* place : {&*old_, &*fresh_}) {
    for (int i = 0; i < 3000; ++i) {
      const std::uint64_t at = random() % (place == &*old_ ? 592 : 8192);
      const Buffer kept = read_buffer(*place, at, 4);
      Buffer bytes(4);
      for (std::uint8_t& byte : bytes)
        byte = static_cast<std::uint8_t>(random() % 3 ? random() : 0xFF);
      place->write(at, bytes);
      const auto seen = luks::kind.recognise(*place);
      if (seen && seen->header.payload) {
        EXPECT_LE(seen->header.payload->offset + seen->header.payload->size, place->size()) << at;
      }
      refused += seen && !seen->header.payload ? 1 : 0;
      place->write(at, kept);
    }
  }
  EXPECT_GT(refused, 100U);
}

}  // namespace
}  // namespace jh::test
