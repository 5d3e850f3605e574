// FAT of all widths, made and filled by another driver; judged by the system's checker.
#include "core/base/endian.h"
#include "core/guest/content.h"
#include "core/store/file_store.h"
#include "support/test.h"

namespace jh::test {
namespace {

class Fat : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    unpack_sample(GetParam(), image_);
    disk_ = std::make_unique<MemoryStore>(load(image_));
  }
  // Empty when the checker is content.
  std::string checker_says(MemoryStore& place) const {
    const std::string copy = folder_ / "copy";
    save(place, copy);
    const ProgramResult said = run({"fsck.fat", "-n", copy});
    return said.status == 0 ? "" : said.out;
  }
  static Findings audit(Store& place) {
    Findings findings;
    const Content content = recognise_content(place);
    if (!content.filesystem())
      findings.add("FAT", "it cannot be opened");
    else
      content.on_disk()->audit(AuditScope::full, {}, findings, silent);
    return findings;
  }

  TempFolder folder_;
  const std::string image_ = folder_ / "fat.img";
  std::unique_ptr<MemoryStore> disk_;
};

TEST_P(Fat, SaysWhatTheSystemSays) {
  const Content content = recognise_content(*disk_);
  EXPECT_EQ(content.label, "MOOR");
  EXPECT_EQ(content.uuid + "\n", run({"blkid", "-p", "-o", "value", "-s", "UUID", image_}).out);
  // The maker leaves out what is no whole track.
  EXPECT_LE(*content.size, Bytes(disk_->size()));
  EXPECT_GT(*content.size, Bytes(disk_->size() - (64U << 10)));
  EXPECT_EQ(content.state, "clean");
  EXPECT_TRUE(content.blockers.empty());
  EXPECT_FALSE(can_be_resized(content));
  EXPECT_THROW(content.filesystem()->plan_resize(Bytes(disk_->size() * 2)), Error);
  EXPECT_EQ(checker_says(*disk_), "");
  const Findings findings = audit(*disk_);
  EXPECT_TRUE(findings.clean()) << findings.kept().front().where << ": "
                                << findings.kept().front().what;
}

TEST_P(Fat, ReadsFilesByPath) {
  const Content content = recognise_content(*disk_);
  const auto text = content.filesystem()->read_text("/EFI/Boot/loader.conf", 1000);
  ASSERT_TRUE(text);
  EXPECT_EQ(text->size(), 300U);
  EXPECT_EQ(text->substr(0, 14), "fstab fstab\nfs");
  EXPECT_EQ(content.filesystem()->read_text("efi/boot/LOADER.CONF", 5), "fstab");
  const auto ring = content.filesystem()->read_text(
      "A folder with a long name/observation of ring 7.txt", 100'000);
  ASSERT_TRUE(ring);
  EXPECT_EQ(ring->size(), 7U * 531);
  const auto left = content.filesystem()->read_text("deep/left", 1U << 20);
  ASSERT_TRUE(left);
  EXPECT_EQ(left->size(), 21'000U);
  EXPECT_EQ(content.filesystem()->read_text("deep/right", 10), std::nullopt);
  EXPECT_EQ(content.filesystem()->read_text("empty", 10), "");
}

TEST_P(Fat, DoesNotMissWhatItSaysIsFree) {
  const Content content = recognise_content(*disk_);
  MemoryStore place(*disk_, "place");
  std::uint64_t free = 0;
  std::uint64_t last = 0;
  content.on_disk()->for_each_free([&](std::uint64_t start, std::uint64_t end) {
    EXPECT_GE(start, last);
    last = end;
    free += end - start;
    place.write(start, Buffer(end - start, 0xA5));
  });
  EXPECT_EQ(Bytes(free) + *content.used, *content.size);
  EXPECT_EQ(checker_says(place), "");
  EXPECT_TRUE(audit(place).clean());
  const Content after = recognise_content(place);
  EXPECT_EQ(after.filesystem()->read_text("deep/er/right", 1U << 20),
            content.filesystem()->read_text("deep/er/right", 1U << 20));
}

// What the checker complains of is found, wherever a table or a folder is damaged.
TEST_P(Fat, FindsWhatTheCheckerFinds) {
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  const Content content = recognise_content(*disk_);
  std::uint64_t front = 0;
  content.on_disk()->for_each_free([&](std::uint64_t start, std::uint64_t) {
    if (front == 0) front = start;
  });
  int both = 0;
  int neither = 0;
  const int rounds = inputs_of(100, 100);
  for (int i = 0; i < rounds; ++i) {
    MemoryStore place(*disk_, "place");
    const std::uint64_t at = 512 + random() % (front - 512);
    Buffer byte = read_buffer(place, at, 1);
    byte[0] = static_cast<std::uint8_t>(byte[0] ^ (1U << random() % 8));
    place.write(at, byte);
    const MemoryStore was(place, "was");
    const std::string checker = checker_says(place);
    const Findings ours = audit(place);
    EXPECT_TRUE(place.same_content(was));
    if (!checker.empty() && !ours.clean()) ++both;
    if (checker.empty() && ours.clean()) ++neither;
    if (!checker.empty() && ours.clean())
      fmt::print("  byte {}: only the checker: {}\n", at, checker.substr(0, 300));
  }
  fmt::print("  {}: both complain of {}, neither of {}\n", GetParam(), both, neither);
  EXPECT_GT(both, 5);
  EXPECT_GT(both + neither, rounds * 8 / 10);
}

TEST_P(Fat, NamesDamageAndNeverFallsOverIt) {
  std::mt19937 random(4);
  for (int i = 0; i < 400; ++i) {
    MemoryStore place(*disk_, "place");
    for (int k = 0; k < 4; ++k) {
      const std::uint64_t at = random() % (i % 2 == 0 ? 64 : 200'000);
      const auto value = static_cast<std::uint8_t>(random());
      place.write(at, ConstByteSpan(&value, 1));
    }
    const Content content = recognise_content(place);
    if (!content.filesystem()) continue;
    try {
      Findings findings;
      content.on_disk()->audit(AuditScope::full, {}, findings, silent);
      content.on_disk()->for_each_free([](std::uint64_t, std::uint64_t) {});
      content.filesystem()->read_text("deep/er/right", 100'000);
    } catch (const Error& error) {
      EXPECT_NE(error.status(), Status::internal) << error.what();
    }
  }
}

TEST(FatState, AVolumeThatWasNotUnmountedSaysSo) {
  const TempFolder folder;
  unpack_sample("fat-16", folder / "fat.img");
  MemoryStore place = load(folder / "fat.img");
  const std::uint64_t reserved = read_as<Le16>(place, 14).value();
  const std::uint64_t mark = reserved * 512 + 3;
  Buffer byte = read_buffer(place, mark, 1);
  byte[0] = static_cast<std::uint8_t>(byte[0] & 0x7F);
  place.write(mark, byte);
  EXPECT_EQ(recognise_content(place).state, "not cleanly unmounted");
  EXPECT_TRUE(recognise_content(place).blockers.empty()) << "it may move with its partition";
}

INSTANTIATE_TEST_SUITE_P(Widths, Fat, testing::Values("fat-12", "fat-16", "fat-32"),
                         [](const auto& test) { return std::string(test.param).substr(4); });

}  // namespace
}  // namespace jh::test
