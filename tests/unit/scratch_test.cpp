// The scratch store: changes stay in memory, or in a store beside it.
#include "core/store/scratch_store.h"
#include "support/test.h"

namespace jh::test {
namespace {

// In memory, and with no more than two pages of it there.
class Scratch : public testing::TestWithParam<bool> {};

TEST_P(Scratch, ShowsChangesAndLeavesTheImageAlone) {
  MemoryStore below(120'000);
  std::mt19937 random(5);
  Buffer model(below.size());
  for (std::size_t at = 0; at < model.size(); at += 7000)
    for (std::size_t i = at; i < std::min(model.size(), at + 3000); ++i)
      model[i] = static_cast<std::uint8_t>(random());
  below.write(0, model);
  below.discard(20'000, 9000);
  std::fill_n(model.begin() + 20'000, 9000, std::uint8_t{0});
  const MemoryStore original(below, "original");

  const auto made =
      GetParam() ? std::make_unique<ScratchStore>(below, std::make_unique<MemoryStore>(0), 8192)
                 : std::make_unique<ScratchStore>(below);
  ScratchStore& scratch = *made;
  for (int round = 0; round < 300; ++round) {
    const std::size_t at = random() % model.size();
    const std::size_t length = std::min<std::size_t>(model.size() - at, 1 + random() % 9000);
    if (random() % 3 == 0) {
      scratch.discard(at, length);
      std::fill_n(model.begin() + static_cast<std::ptrdiff_t>(at), length, std::uint8_t{0});
    } else {
      const Buffer fresh(length, static_cast<std::uint8_t>(random()));
      scratch.write(at, fresh);
      std::copy(fresh.begin(), fresh.end(), model.begin() + static_cast<std::ptrdiff_t>(at));
    }
    EXPECT_TRUE(scratch.is_changed(at, 1));
    const Buffer seen = read_buffer(scratch, 0, model.size());
    ASSERT_EQ(seen, model) << "round " << round;
    const auto run = scratch.map(at, length);
    ASSERT_GT(run.length, 0U);
    if (run.zero) {
      ASSERT_TRUE(all_zero(ConstByteSpan(model).subspan(at, run.length)));
    }
  }
  EXPECT_TRUE(below.same_content(original));
  Buffer past(10);
  EXPECT_THROW(scratch.read(model.size() - 5, past), Error);
  // What is cut off does not come back.
  scratch.resize(5000);
  scratch.resize(model.size());
  std::fill(model.begin() + 5000, model.end(), std::uint8_t{0});
  EXPECT_EQ(read_buffer(scratch, 0, model.size()), model);
  EXPECT_TRUE(below.same_content(original));
}

INSTANTIATE_TEST_SUITE_P(Spills, Scratch, testing::Bool());

TEST(ScratchStore, KnowsWhatItDidNotChange) {
  MemoryStore below(100'000);
  ScratchStore scratch(below);
  scratch.write(50'000, Buffer{1});
  EXPECT_FALSE(scratch.is_changed(0, 40'000));
  EXPECT_TRUE(scratch.is_changed(0, 60'000));
  EXPECT_FALSE(scratch.is_changed(60'000, 40'000));
}

}  // namespace
}  // namespace jh::test
