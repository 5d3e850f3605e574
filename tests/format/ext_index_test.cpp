// Names in indexed directories, hashed by the kernel in every way it knows, and our audit's view of
// where they ought to lie.
#include "core/fs/ext/read.h"
#include "core/store/file_store.h"
#include "support/ext_tools.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct IndexKind {
  const char* hash;
  bool unsigned_chars;
};

class ExtIndex : public testing::TestWithParam<IndexKind> {
 protected:
  void SetUp() override {
    if (!can_mount()) GTEST_SKIP() << "the kernel makes the directories, and mounting needs root";
    write_file(folder_ / "mke2fs.conf", "[defaults]\n hash_alg = " + std::string(GetParam().hash) +
                                            "\n inode_ratio = 8192\n");
    make_sparse_file(path_, 64ULL << 20);
    const auto made = run({"mkfs.ext4", "-q", "-F", "-b", "1024", "-N", "8000", "-O",
                           "^metadata_csum,dir_index,extents", path_},
                          {{"MKE2FS_CONFIG", folder_ / "mke2fs.conf"}});
    ASSERT_EQ(made.status, 0) << made.err;
    if (GetParam().unsigned_chars) poke(path_, 1024 + 0x160, std::string("\2\0\0\0", 4));
    const Mounted mounted(path_, 0, 0, true);
    const files::path root = mounted.path();
    for (const char* directory : {"few", "many"}) {
      files::create_directory(root / directory);
      // Long names, some with letters that are negative where characters are signed: the index of
      // `many` gets a second level.
      for (int i = 0; i < (directory[0] == 'f' ? 60 : 4000); ++i)
        write_file((root / directory /
                    fmt::format("ring-{}-\xC3\xA4\xC3\xB6-{}", i, std::string(i % 90, 'w')))
                       .string(),
                   "");
    }
  }

  TempFolder folder_;
  std::string path_ = folder_ / "fs";
};

TEST_P(ExtIndex, EveryNameLiesWhereItsHashSays) {
  EXPECT_EQ(check_ext(path_), "");
  EXPECT_EQ(words_of(audit_ext(path_)), "");
}

TEST_P(ExtIndex, AChangedNameIsFoundByBoth) {
  std::uint64_t at = 0;
  {
    FileStore file(path_, Access::read_only);
    ext::Filesystem fs(file);
    const auto directory = ext::find_path(fs, "/many");
    ASSERT_TRUE(directory.has_value());
    const std::uint64_t block = ext::find_block(fs, *directory, 2);
    const Buffer raw = fs.read_block(block);
    const std::string text(raw.begin(), raw.end());
    const auto found = text.find("ring-");
    ASSERT_NE(found, std::string::npos);
    at = fs.geometry().offset(block) + found;
  }
  // Of several other names one at least must hash to another block: a directory has hundreds.
  int found_by_us = 0;
  for (const char* other : {"wing", "king", "sing", "ping"}) {
    poke(path_, at, other);
    const std::string ours = words_of(audit_ext(path_));
    EXPECT_EQ(ours.empty(), check_ext(path_).empty()) << other << ": " << ours;
    if (!ours.empty()) {
      ++found_by_us;
      EXPECT_THAT(ours, HasSubstr("where its index would not look for it"));
    }
  }
  EXPECT_GT(found_by_us, 0);
}

INSTANTIATE_TEST_SUITE_P(Hashes, ExtIndex,
                         testing::Values(IndexKind{"half_md4", false}, IndexKind{"half_md4", true},
                                         IndexKind{"tea", false}, IndexKind{"tea", true},
                                         IndexKind{"legacy", false}, IndexKind{"legacy", true}),
                         [](const auto& kind) {
                           return std::string(kind.param.hash) +
                                  (kind.param.unsigned_chars ? "_unsigned" : "_signed");
                         });

// Names are looked at by two threads: what they find is all of it, in one order.
TEST(ExtNames, ThatAreThereTwiceAreFoundInEveryDirectory) {
  const TempFolder folder;
  constexpr int sites = 60;
  for (int site = 0; site < sites; ++site) {
    const std::string in = folder / fmt::format("tree/site{}", site);
    files::create_directories(in);
    for (int ring = 0; ring < 600; ++ring) write_file(fmt::format("{}/ring-{:04}", in, ring), "");
  }
  const std::string path =
      make_ext(folder / "fs", 96ULL << 20,
               {"-b", "1024", "-N", "40000", "-O", "^metadata_csum", "-d", folder / "tree"}, false);
  EXPECT_EQ(words_of(audit_ext(path)), "");
  const std::string bytes = read_file(path);
  int spoiled = 0;
  for (std::size_t at = bytes.find("ring-0007"); at != std::string::npos;
       at = bytes.find("ring-0007", at + 1), ++spoiled)
    poke(path, at, "ring-0123");
  ASSERT_EQ(spoiled, sites);
  const std::string first = words_of(audit_ext(path));
  for (int turn = 0; turn < 3; ++turn) EXPECT_EQ(words_of(audit_ext(path)), first);
  const Findings found = audit_ext(path);
  EXPECT_EQ(found.count(), sites);
  for (const Finding& each : found.kept())
    EXPECT_THAT(each.what, HasSubstr("\"ring-0123\" is there twice"));
}

}  // namespace
}  // namespace jh::test
