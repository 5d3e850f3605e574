#include "support/sequences.h"

#include "core/guest/content.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {

int run_sequences(const Sequences& kind) {
  const unsigned seed = seed_of_run();
  const char* more = std::getenv("JUNEHEATH_SEQUENCES");
  const int sequences = more != nullptr ? std::stoi(more) : kind.count;
  const TempFolder folder;
  const std::string image = folder / "place.img";
  std::optional<MemoryStore> made;
  Sums tree;
  for (int i = 0; i < sequences; ++i) {
    SCOPED_TRACE(fmt::format("seed {}, sequence {}", seed, i));
    std::mt19937_64 random{seed + static_cast<unsigned>(i)};
    if (i % kind.of_one_make == 0) {
      files::remove(image);
      kind.make(image, random);
      made.emplace(load(image));
      tree = tree_sums(*recognise_content(*made).on_disk());
    }
    MemoryStore place(*made, "place");
    kind.change(place, random);
    expect_sound_with(place, tree);
    if (testing::Test::HasFatalFailure()) return i;
    if (i % kind.of_a_check != kind.of_a_check - 1) continue;
    const std::string copy = folder / "copy.img";
    save(place, copy);
    EXPECT_EQ(kind.check(copy), "");
    if (testing::Test::HasFailure()) return i;
    files::remove(copy);
  }
  return sequences;
}

}  // namespace jh::test
