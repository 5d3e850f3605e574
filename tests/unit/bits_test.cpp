// Large sets: what was set is there, ranks count it, and what nobody set takes no memory.
#include "core/fs/ext/bits.h"

#include "support/test.h"

namespace jh::test {
namespace {

TEST(Bits, TellWhatWasSetAndItsRank) {
  std::mt19937_64 random{seed_of_run()};
  for (const std::uint64_t size : {1ULL, 64ULL, 32'767ULL, 32'769ULL, 5'000'000ULL}) {
    SCOPED_TRACE(size);
    ext::Bits bits(size);
    std::set<std::uint64_t> set;
    for (int i = 0; i < 400; ++i) set.insert(random() % (random() % 2 == 0 ? size : 1 + size / 9));
    set.insert(size - 1);
    for (const std::uint64_t bit : set) bits.set(bit);
    bits.index();
    EXPECT_EQ(bits.total(), set.size());
    std::uint32_t rank = 0;
    for (const std::uint64_t bit : set) {
      EXPECT_TRUE(bits.test(bit));
      EXPECT_EQ(bits.rank(bit), rank++);
      EXPECT_EQ(bits.word_at(bit) & 1, 1U);
    }
    for (int i = 0; i < 400; ++i) {
      const std::uint64_t from = random() % size;
      std::uint64_t word = 0;
      for (std::uint64_t k = 0; k < 64; ++k)
        if (set.contains(from + k)) word |= 1ULL << k;
      EXPECT_EQ(bits.word_at(from), word);
    }
  }
}

}  // namespace
}  // namespace jh::test
