// Every form against a model: the same writes, discards and growths on an image and on plain
// memory, with the image opened again in between.
#include "core/container/qcow2/qcow2.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr int random_operations = is_sanitized ? 400 : 2000;

class Model {
 public:
  Model(MemoryImage& image, std::uint64_t seed)
      : image_(image), random_(seed), model_(image.container->disk().size()) {}

  void run(int count, std::uint64_t largest) {
    image_.container->make_ready();
    for (int i = 0; i < count && !testing::Test::HasFailure(); ++i) {
      const auto dice = random_() % 100;
      if (dice < 55) {
        write();
      } else if (dice < 70) {
        discard();
      } else if (dice < 92) {
        compare(pick());
      } else if (dice < 94) {
        image_.container->relocate_tail(1 + random_() % (2U << 20));
      } else if (dice < 97) {
        image_.open();
        image_.container->make_ready();
      } else if (model_.size() < largest) {
        grow(largest);
      }
    }
    compare_all();
  }

  void compare_all() {
    const std::uint64_t size = model_.size();
    ASSERT_EQ(image_.container->disk().size(), size);
    for (std::uint64_t at = 0; at < size && !testing::Test::HasFailure();) {
      const Range one = model_.map(at, size - at);
      const Range other = image_.container->disk().map(at, size - at);
      const std::uint64_t both = std::min(one.length, other.length);
      if (!one.zero || !other.zero) {
        compare({at, std::min<std::uint64_t>(both, 1U << 20)});
        at += std::min<std::uint64_t>(both, 1U << 20);
      } else {
        at += both;
      }
    }
    EXPECT_EQ(audited(*image_.container), "");
  }

 private:
  struct DiskRange {
    std::uint64_t offset;
    std::uint64_t length;
  };

  // Most accesses are near each other, so that they meet; some are anywhere.
  DiskRange pick() {
    const std::uint64_t size = model_.size();
    const std::uint64_t spread =
        random_() % 4 == 0 ? size : std::min<std::uint64_t>(size, 8U << 20);
    const std::uint64_t offset = random_() % spread;
    const std::uint64_t longest = std::uint64_t{1} << (random_() % 21);
    return {offset, 1 + random_() % std::min(longest, size - offset)};
  }
  void write() {
    const DiskRange range = pick();
    Buffer data(range.length);
    // Stretches of zeros, of one value, and of noise.
    const auto kind = random_() % 4;
    if (kind == 1) std::fill(data.begin(), data.end(), static_cast<std::uint8_t>(random_()));
    if (kind >= 2)
      for (std::size_t i = 0; i < data.size(); i += 1 + kind % 3 * 700)
        data[i] = static_cast<std::uint8_t>(random_());
    model_.write(range.offset, data);
    if (random_() % 3 == 0)
      image_.container->disk().write_unreferenced(range.offset, data);
    else
      image_.container->disk().write(range.offset, data);
  }
  void discard() {
    const DiskRange range = pick();
    model_.discard(range.offset, range.length);
    image_.container->disk().discard(range.offset, range.length);
  }
  void grow(std::uint64_t largest) {
    const std::uint64_t unit = image_.container->size_unit().value();
    const std::uint64_t size =
        std::min(largest, round_up(model_.size() + 1 + random_() % (model_.size() / 4 + 1), unit));
    image_.grow(Bytes(size));
    model_.resize(size);
  }
  void compare(const DiskRange& range) {
    const Buffer expected = read_buffer(model_, range.offset, range.length);
    const Buffer found = read_buffer(image_.container->disk(), range.offset, range.length);
    if (expected == found) return;
    const auto differs = std::mismatch(expected.begin(), expected.end(), found.begin()).first;
    FAIL() << "byte " << range.offset + static_cast<std::uint64_t>(differs - expected.begin());
  }

  MemoryImage& image_;
  std::mt19937_64 random_;
  MemoryStore model_;
};

class ContainerModel : public testing::TestWithParam<Kind> {};

TEST_P(ContainerModel, RandomOperations) {
  const std::uint64_t seeded = seed_of_run();
  fmt::print("  seed {}\n", seeded);
  const bool pieces = GetParam().in_pieces;
  const auto image = new_image(wanted(GetParam(), pieces ? 3ULL << 30 : 24U << 20));
  Model(*image, seeded).run(random_operations, pieces ? 7ULL << 30 : 96U << 20);
}

INSTANTIATE_TEST_SUITE_P(Forms, ContainerModel, testing::ValuesIn(kinds()), by_name);

struct Qcow2Kind {
  std::string name;
  qcow2::NewImage image;
};

class Qcow2Model : public testing::TestWithParam<Qcow2Kind> {};

TEST_P(Qcow2Model, RandomOperations) {
  const std::uint64_t seeded = seed_of_run();
  fmt::print("  seed {}\n", seeded);
  MemoryImage image;
  image.main = &image.files.create("/moor/guest.img");
  qcow2::create(*image.main, 24U << 20, GetParam().image);
  image.open();
  Model(image, seeded).run(random_operations, 96U << 20);
}

INSTANTIATE_TEST_SUITE_P(Kinds, Qcow2Model,
                         testing::Values(Qcow2Kind{"SmallestClusters", {9, 4, false, 3, false}},
                                         Qcow2Kind{"LargestClusters", {21, 4, false, 3, false}},
                                         Qcow2Kind{"Version2", {12, 4, false, 2, false}},
                                         Qcow2Kind{"OneBitCounts", {16, 0, false, 3, false}},
                                         Qcow2Kind{"TwoBitCounts", {10, 1, false, 3, false}},
                                         Qcow2Kind{"FourBitCounts", {13, 2, false, 3, false}},
                                         Qcow2Kind{"ByteCounts", {12, 3, false, 3, false}},
                                         Qcow2Kind{"WideCounts", {9, 6, false, 3, false}},
                                         Qcow2Kind{"Subclusters", {16, 4, false, 3, true}},
                                         Qcow2Kind{"SmallSubclusters", {14, 5, false, 3, true}}),
                         by_name);

// Growing has put the large tables behind everything; the file becomes shorter all the same.
TEST(Qcow2Limits, LargeTablesAtTheEndDoNotKeepTheFileLong) {
  MemoryImage image;
  image.main = &image.files.create("/moor/guest.img");
  qcow2::create(*image.main, 4U << 20, {9, 4, false, 3, false});
  image.open();
  image.container->make_ready();
  image.container->disk().write(0, Buffer(3U << 20, 0x11));
  image.grow(Bytes(640U << 20));
  image.container->disk().write(3U << 20, Buffer(40'000, 0x22));
  image.container->unmap(0, 3U << 20);
  const std::uint64_t before = image.main->size();
  image.container->relocate_tail(UINT64_MAX);
  EXPECT_LT(image.main->size(), before - (2U << 20));
  EXPECT_EQ(image.container->relocate_tail(UINT64_MAX), 0U);
  image.open();
  EXPECT_EQ(read_buffer(image.container->disk(), 3U << 20, 40'000), Buffer(40'000, 0x22));
  EXPECT_TRUE(all_zero(read_buffer(image.container->disk(), 0, 3U << 20)));
  EXPECT_EQ(audited(*image.container), "");
}

TEST(Qcow2Limits, TheSmallestClustersReach128GiB) {
  MemoryImage image;
  image.main = &image.files.create("/moor/guest.img");
  qcow2::create(*image.main, 100ULL << 30, {9, 4, false, 3, false});
  image.open();
  image.container->check_growth(Bytes(128ULL << 30));
  EXPECT_THROW(image.container->check_growth(Bytes((128ULL << 30) + 512)), Error);
  image.grow(Bytes(128ULL << 30));
  image.container->disk().write((128ULL << 30) - 600, Buffer(600, 0x5a));
  image.open();
  EXPECT_EQ(read_buffer(image.container->disk(), (128ULL << 30) - 600, 600), Buffer(600, 0x5a));
  EXPECT_EQ(audited(*image.container), "");
}

}  // namespace
}  // namespace jh::test
