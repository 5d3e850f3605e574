// Filesystems of every kind made smaller: to the floor, a block above it, and sizes between; judged
// by the system's checker, the kernel, and our own audit.
#include <sys/xattr.h>

#include "core/base/errors.h"
#include "core/fs/ext/quota.h"
#include "core/store/file_store.h"
#include "support/ext_tools.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

class ExtShrink : public testing::TestWithParam<std::tuple<int, int>> {};

TEST_P(ExtShrink, ToTheFloorAndAbove) {
  SKIP_UNLESS_TAKEN(4)
  const std::uint32_t block_size = 1024U << std::get<0>(GetParam());
  const ExtKind& kind = ext_kinds().at(static_cast<std::size_t>(std::get<1>(GetParam())));
  const TempFolder folder;
  const std::string base = folder / "base";
  const std::string cut = folder / "cut";
  const std::uint64_t full = (block_size == 1024 ? 48 : 160) * mib;
  make_ext_kind(kind, block_size, base, full);
  const auto tree = ext_tree(base);
  const std::uint64_t floor = floor_of(base);
  ASSERT_LT(floor, full);
  std::mt19937 random(block_size);
#ifdef JUNEHEATH_SANITIZED
  const std::vector<std::uint64_t> sizes{floor};
#else
  const std::vector<std::uint64_t> sizes{floor, floor + block_size,
                                         floor + random() % (full - floor)};
#endif
  for (const std::uint64_t size : sizes) {
    SCOPED_TRACE(
        fmt::format("{} with {}-byte blocks to {} (floor {})", kind.name, block_size, size, floor));
    run({"cp", "--sparse=always", base, cut});
    const std::uint64_t now = shrink_ext(cut, size);
    EXPECT_LE(now, size);
    files::resize_file(cut, now);
    EXPECT_EQ(check_ext(cut), "");
    EXPECT_EQ(words_of(audit_ext(cut)), "");
    EXPECT_EQ(tree_difference(tree, ext_tree(cut)), "");
    // And back again.
    grow_ext(cut, full);
    EXPECT_EQ(check_ext(cut), "");
    EXPECT_EQ(tree_difference(tree, ext_tree(cut)), "");
  }
  run({"cp", "--sparse=always", base, cut});
  expect_error(Status::refused, "", [&] { shrink_ext(cut, floor - block_size); });
  EXPECT_EQ(file_digest(cut), file_digest(base));
}

INSTANTIATE_TEST_SUITE_P(Kinds, ExtShrink,
                         testing::Combine(testing::Range(0, 3),
                                          testing::Range(0, static_cast<int>(ext_kinds().size()))),
                         [](const auto& test) { return ext_kind_name(test.param); });

// Lets the kernel fill and empty a filesystem at random, so that what is left lies anywhere, in
// pieces, with inodes in every group, links, attributes and holes. Nothing happens where this
// kernel does not mount it.
void churn(const std::string& path, std::mt19937& random) {
  namespace files = std::filesystem;
  std::optional<Mounted> mounted;
  try {
    mounted.emplace(path, 0, 0, true);
  } catch (const std::runtime_error&) {
    return;
  }
  const std::string root = mounted->path() + "/";
  Words made;
  std::string content(40000, ' ');
  for (char& c : content) c = static_cast<char>(random());
  std::error_code error;
  const int folders = 1 + static_cast<int>(random() % 30);
  const std::string base = root + fmt::format("nest-{}", random());
  for (int i = 0; i < folders; ++i)
    files::create_directories(base + fmt::format("/box-{}", i), error);
  const std::uint64_t most = files::space(root, error).available * (random() % 90) / 100;
  std::uint64_t written = 0;
  for (int i = 0; i < 700 && written < most; ++i) {
    const std::string name = base + fmt::format("/box-{}/egg-{}", random() % folders, i);
    if (i % 10 == 3 && !made.empty()) {
      files::create_hard_link(made[random() % made.size()], name, error);
      continue;
    }
    if (i % 10 == 4) {
      files::create_symlink(std::string(20 + random() % 100, 'l'), name, error);
      continue;
    }
    std::ofstream file(name, std::ios::binary);
    const std::size_t length = random() % 4 == 0 ? random() % 30000 : random() % 3000;
    file.write(content.data() + random() % 10000, static_cast<std::streamsize>(length));
    if (random() % 8 == 0) {
      file.seekp(static_cast<std::streamoff>(random() % 3000000));
      file.write(content.data(), 5000);
      written += 5000;
    }
    written += length + 4096;
    file.close();
    if (random() % 5 == 0) {
      const std::size_t size = random() % 8 == 0 ? 3500 : random() % 700;
      (void)::setxattr(name.c_str(), "user.ring", content.data(), size, 0);
    }
    made.push_back(name);
  }
  for (const std::string& name : made)
    if (random() % 3 != 0) files::remove(name, error);
  // What is written now goes into the gaps.
  for (int i = 0; i < 12; ++i) {
    std::ofstream file(base + fmt::format("/log-{}", i), std::ios::binary);
    for (std::uint64_t n = random() % 20; n > 0; --n) file.write(content.data(), 40000);
  }
}

// A change of usage reaches the record of its owner in every quota file: the checker, which counts
// for itself, misses exactly that many bytes, and none when they are taken back.
TEST(ExtQuota, RecordsFollowAChange) {
  for (const char* features : {"quota", "project,quota"}) {
    const TempFolder folder;
    const std::string path =
        make_ext(folder / "fs", 64 * mib, {"-b", "1024", "-O", features}, false);
    ASSERT_EQ(check_ext(path), "");
    const auto change = [&](std::int64_t bytes) {
      FileStore file(path, Access::read_write);
      ext::Filesystem fs(file);
      ext::change_usage(fs, {0, 0, 0, bytes});
    };
    change(1024);
    const std::string words = check_ext(path);
    EXPECT_THAT(words, HasSubstr("Usage inconsistent for ID 0"));
    change(-1024);
    EXPECT_EQ(check_ext(path), "") << features;
  }
}

// Random kinds; grown, shrunk, and changed by the kernel in between.
TEST(ExtSequences, RandomGrowthsAndShrinks) {
  int sequences = is_sanitized ? 20 : rounds_of(80);
  if (const char* wanted = std::getenv("JUNEHEATH_SEQUENCES")) sequences = std::atoi(wanted);
  const unsigned seed = seed_of_run();
  std::mt19937 random(seed);
  int growths = 0;
  int shrinks = 0;
  for (int n = 0; n < sequences; ++n) {
    if (n > 0 && n % 500 == 0) {  // a run of an hour says how far it is
      fmt::print("  {} sequences: {} growths, {} shrinks\n", n, growths, shrinks);
      std::fflush(stdout);
    }
    const ExtKind& kind = ext_kinds()[random() % ext_kinds().size()];
    const std::uint32_t block_size = 1024U << random() % 3;
    const TempFolder folder;
    const std::string path = folder / "fs";
    make_ext_kind(kind, block_size, path, (16 + random() % 60) * mib, {}, /*filled=*/false);
    const int steps = 1 + static_cast<int>(random() % 3);
    for (int step = 0; step < steps; ++step) {
      churn(path, random);
      ASSERT_EQ(check_ext(path), "") << "the kernel's own work";
      const auto tree = own_tree_facts(path);
      const std::uint64_t size = files::file_size(path);
      const bool larger = random() % 3 == 0;
      std::uint64_t wanted = size + random() % size;
      if (!larger) {
        const std::uint64_t floor = floor_of(path);
        wanted = random() % 3 == 0 ? floor : floor + random() % (size - floor + 1);
      }
      SCOPED_TRACE(fmt::format("seed {}, sequence {}, {} with {}-byte blocks, {} to {}", seed, n,
                               kind.name, block_size, size, wanted));
      if (larger) {
        grow_ext(path, wanted);
        ++growths;
      } else {
        files::resize_file(path, shrink_ext(path, wanted));
        ++shrinks;
      }
      ASSERT_EQ(check_ext(path), "");
      ASSERT_EQ(words_of(audit_ext(path)), "");
      ASSERT_EQ(tree_difference(tree, own_tree_facts(path)), "");
    }
  }
  fmt::print("  {} growths, {} shrinks\n", growths, shrinks);
}

}  // namespace
}  // namespace jh::test
