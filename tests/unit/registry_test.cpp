// Drive letters out of a guest's registry.
#include "core/guest/registry.h"

#include "core/store/memory_store.h"
#include "support/hive.h"
#include "support/test.h"

namespace jh::test {
namespace {

MemoryStore store_of(const Buffer& bytes) {
  MemoryStore store(bytes.size());
  store.write(0, bytes);
  return store;
}

const std::vector<std::uint8_t> guid{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16};

HiveValues some_values() {
  return {{"\\DosDevices\\D:", gpt_place(guid)},
          {"\\??\\Volume{0}", mbr_place(9, 9)},
          {"\\DosDevices\\E:", Buffer{'\\', 0, '?', 0, '?', 0, '\\', 0}},
          {"\\DosDevices\\C:", mbr_place(0x5AD02EF9, 51380224)}};
}

TEST(Registry, KnowsLetters) {
  for (const bool wide : {false, true}) {
    MemoryStore hive = store_of(make_hive(some_values(), wide));
    const auto letters = read_drive_letters(hive);
    ASSERT_EQ(letters.size(), 2U);
    EXPECT_EQ(letters[0].letter, 'C');
    EXPECT_EQ(letters[0].disk_signature, 0x5AD02EF9U);
    EXPECT_EQ(letters[0].offset, 51380224U);
    EXPECT_FALSE(letters[0].partition);
    EXPECT_EQ(letters[1].letter, 'D');
    ASSERT_TRUE(letters[1].partition);
    EXPECT_EQ(guid_text(*letters[1].partition), "04030201-0605-0807-090a-0b0c0d0e0f10");
  }
}

TEST(Registry, MayHaveNone) {
  MemoryStore hive = store_of(make_hive({}));
  EXPECT_TRUE(read_drive_letters(hive).empty());
}

// Every byte of it in turn, and noise: what it says may be wrong, but nothing falls over it.
TEST(Registry, IsNotTrusted) {
  const Buffer whole = make_hive(some_values(), true);
  int refused = 0;
  const auto look = [&](const Buffer& bytes) {
    MemoryStore hive = store_of(bytes);
    try {
      read_drive_letters(hive);
    } catch (const Error& error) {
      EXPECT_NE(error.status(), Status::internal) << error.what();
      ++refused;
    }
  };
  for (std::size_t at = 0; at < 4096 + 1024; at += at == 0x40 ? 4096 - 0x40 : 1)
    for (const int change : {0xFF, 0x01, 0x80}) {
      Buffer bytes = whole;
      bytes[at] = static_cast<std::uint8_t>(bytes[at] ^ change);
      look(bytes);
    }
  EXPECT_GT(refused, 50);
  std::mt19937 random(11);
  for (int i = 0; i < 2000; ++i) {
    Buffer bytes = whole;
    for (int k = 0; k < 6; ++k) bytes[4096 + random() % 1024] = static_cast<std::uint8_t>(random());
    look(bytes);
  }
  look(Buffer(whole.begin(), whole.begin() + 100));
  look(Buffer(whole.begin(), whole.begin() + 4200));
}

}  // namespace
}  // namespace jh::test
