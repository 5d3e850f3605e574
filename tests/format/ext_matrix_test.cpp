// Filesystems of every kind that the system's maker makes, grown to many sizes, and judged by the
// system's checker, the kernel, and our own audit.
#include "core/base/errors.h"
#include "support/ext_tools.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

// Sizes to grow to, from a base of 32 MiB. `past`: beyond what -E resize= reserved.
std::vector<std::uint64_t> sizes_for(std::uint32_t block_size) {
  const std::uint64_t group = 8ULL * block_size * block_size;
  const std::uint64_t base = 32 * mib;
  const std::uint64_t first = block_size == 1024 ? 1024 : 0;
  const std::uint64_t edge = first + (base / group + 1) * group;
  return {base + 7ULL * block_size, edge, edge + block_size, 2 * base, 10 * base, 100 * base};
}

std::uint64_t past_reserved(std::uint32_t block_size) {
  return block_size == 1024 ? 600 * mib : block_size == 2048 ? 2500 * mib : 20480 * mib;
}

std::uint32_t block_size_of(int index) { return 1024U << index; }

void make(const ExtKind& kind, std::uint32_t block_size, const std::string& path,
          bool reserve_little) {
  const bool has_extended =
      std::find(kind.options.begin(), kind.options.end(), "-E") != kind.options.end();
  Words further;
  if (reserve_little && !has_extended)
    further = {"-E", fmt::format("resize={}", 33 * mib / block_size + 8192)};
  make_ext_kind(kind, block_size, path, 32 * mib, further);
}

class ExtMatrix : public testing::TestWithParam<std::tuple<int, int>> {};

TEST_P(ExtMatrix, GrowsToEverySize) {
  SKIP_UNLESS_TAKEN(4)
  const std::uint32_t block_size = block_size_of(std::get<0>(GetParam()));
  const ExtKind& kind = ext_kinds().at(static_cast<std::size_t>(std::get<1>(GetParam())));
  std::vector<std::uint64_t> sizes = sizes_for(block_size);
  sizes.push_back(past_reserved(block_size));
  if (is_sanitized) sizes = {sizes[2], sizes[6]};
  const TempFolder folder;
  const std::string base = folder / "base";
  const std::string grown = folder / "grown";
  Facts tree;
  for (std::size_t i = 0; i < sizes.size(); ++i) {
    const bool past = sizes[i] == past_reserved(block_size);
    if (i == 0 || past) {
      files::remove(base);
      make(kind, block_size, base, past);
      ASSERT_EQ(check_ext(base), "") << "the maker's own work";
      tree = ext_tree(base);
    }
    run({"cp", "--sparse=always", base, grown});
    try {
      grow_ext(grown, sizes[i]);
    } catch (const Error& error) {
      // The one case that docs/formats/ext4.md lists.
      EXPECT_TRUE(past && std::string(kind.name) == "bigalloc") << error.what() << error.where();
      EXPECT_EQ(error.status(), Status::unsupported);
      continue;
    }
    const std::string what =
        fmt::format("{} with {}-byte blocks to {}", kind.name, block_size, sizes[i]);
    EXPECT_EQ(check_ext(grown), "") << what;
    EXPECT_EQ(words_of(audit_ext(grown)), "") << what;
    EXPECT_EQ(tree_difference(tree, ext_tree(grown)), "") << what;
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, ExtMatrix,
                         testing::Combine(testing::Range(0, 3),
                                          testing::Range(0, static_cast<int>(ext_kinds().size()))),
                         [](const auto& test) { return ext_kind_name(test.param); });

// The kernel of this machine may not mount such blocks; the checker reads them.
TEST(ExtLargeBlocks, AreReadAndGrown) {
  const TempFolder folder;
  const std::string path = make_ext(folder / "large", 256 * mib, {"-b", "65536"});
  EXPECT_EQ(words_of(audit_ext(path)), "");
  grow_ext(path, 900 * mib);
  EXPECT_EQ(check_ext(path), "");
  EXPECT_EQ(words_of(audit_ext(path)), "");
}

TEST(ExtLimits, AreSaid) {
  const TempFolder folder;
  const std::string path = make_ext(folder / "narrow", 64 * mib, {"-b", "4096", "-O", "^64bit"});
  expect_error(Status::refused, "16.0 TiB", [&] { grow_ext(path, 17ULL << 40); });
  EXPECT_EQ(check_ext(path), "");
}

}  // namespace
}  // namespace jh::test
