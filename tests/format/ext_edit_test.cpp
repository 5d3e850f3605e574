// Editing block lists and directories, as the replay of fast commits does: after any number of
// edits the system's checker is content and the content is where it was put.
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/orphans.h"
#include "core/fs/ext/read.h"
#include "core/store/file_store.h"
#include "support/ext_tools.h"
#include "support/test.h"

namespace jh::test {
namespace {

class ExtEdit : public testing::TestWithParam<Words> {
 protected:
  void SetUp() override {
    Words options = Words{"-b", "1024"} + GetParam();
    make_ext(path_, 48ULL << 20, options);
  }
  void expect_sound() {
    EXPECT_EQ(check_ext(path_), "");
    EXPECT_EQ(words_of(audit_ext(path_)), "");
  }
  TempFolder folder_;
  std::string path_ = folder_ / "fs";
};

TEST_P(ExtEdit, ScatteredRunsNeedAndLoseTreeBlocks) {
  std::mt19937 random(11);
  for (const std::uint64_t runs_wanted : {1ULL, 4ULL, 5ULL, 300ULL, 2ULL, 900ULL, 0ULL}) {
    {
      FileStore file(path_, Access::read_write);
      ext::Filesystem fs(file);
      ext::Allocation allocation(fs);
      ext::InodeRecord inode = *ext::find_path(fs, "/film.bin");
      const auto old_runs = ext::read_runs(fs, inode);
      std::vector<ext::MappedExtent> runs;
      std::uint64_t logical = 0;
      for (std::uint64_t i = 0; i < runs_wanted; ++i) {
        // Gaps in the file, and every other block left free: no two runs can be joined.
        const auto block = allocation.allocate(1, 8193 + random() % 30'000, {});
        ASSERT_TRUE(block.has_value());
        file.write(fs.geometry().offset(*block),
                   Buffer(1024, static_cast<std::uint8_t>(logical & 0xFF)));
        runs.push_back({logical, *block, 1, false});
        logical += 1 + random() % 5;
      }
      for (const auto& run : old_runs) allocation.release(run.physical, run.count);
      ext::write_runs(fs, allocation, inode, runs);
      inode.fields.size_lo = static_cast<std::uint32_t>((logical + 5) * 1024);
      fs.write_inode(inode);
      allocation.finish();
    }
    expect_sound();
    FileStore file(path_, Access::read_only);
    ext::Filesystem fs(file);
    const ext::InodeRecord inode = *ext::find_path(fs, "/film.bin");
    const Buffer content = ext::read_file(fs, inode, UINT64_MAX);
    for (const auto& run : ext::read_runs(fs, inode)) {
      ASSERT_EQ(run.count, 1U);
      ASSERT_EQ(content[run.logical * 1024], static_cast<std::uint8_t>(run.logical & 0xFF));
    }
  }
}

TEST_P(ExtEdit, CuttingGivesBlocksBack) {
  for (const std::uint64_t keep : {200ULL, 57ULL, 3ULL, 0ULL}) {
    std::uint64_t free_before = 0;
    std::uint64_t free_after = 0;
    {
      FileStore file(path_, Access::read_write);
      ext::Filesystem fs(file);
      free_before = fs.free_clusters();
      ext::Allocation allocation(fs);
      ext::InodeRecord inode = *ext::find_path(fs, "/film.bin");
      ext::cut_blocks(fs, allocation, inode, keep);
      inode.fields.size_lo = static_cast<std::uint32_t>(keep * 1024);
      fs.write_inode(inode);
      allocation.finish();
      free_after = fs.free_clusters();
    }
    EXPECT_GT(free_after, free_before);
    expect_sound();
  }
}

TEST_P(ExtEdit, NamesComeAndGo) {
  Words names;
  {
    FileStore file(path_, Access::read_write);
    ext::Filesystem fs(file);
    ext::Allocation allocation(fs);
    const std::uint32_t target = ext::find_path(fs, "/film.bin")->ino;
    ext::InodeRecord directory = *ext::find_path(fs, "/rings");
    int links = 0;
    for (int i = 0; i < 400; ++i) {
      const std::string name =
          fmt::format("one-more-name-{}-{}", i, std::string(static_cast<std::size_t>(i) % 90, 'n'));
      EXPECT_TRUE(ext::add_name(fs, allocation, directory, name, target, ext::mode_file));
      EXPECT_FALSE(ext::add_name(fs, allocation, directory, name, target, ext::mode_file));
      names.push_back(name);
      ++links;
    }
    for (std::size_t i = 0; i < names.size(); i += 3) {
      EXPECT_TRUE(ext::remove_name(fs, directory, names[i], target));
      EXPECT_FALSE(ext::remove_name(fs, directory, names[i], target));
      --links;
    }
    fs.write_inode(directory);
    ext::InodeRecord inode = fs.read_inode(target);
    inode.fields.links_count = static_cast<std::uint16_t>(inode.fields.links_count.value() + links);
    fs.write_inode(inode);
    allocation.finish();
  }
  expect_sound();
  FileStore file(path_, Access::read_only);
  ext::Filesystem fs(file);
  for (std::size_t i = 0; i < names.size(); ++i)
    EXPECT_EQ(ext::find_path(fs, "/rings/" + names[i]).has_value(), i % 3 != 0) << names[i];
  EXPECT_TRUE(ext::find_path(fs, "/rings/ring-00100-curlew-and-a-long-name").has_value());
}

INSTANTIATE_TEST_SUITE_P(Kinds, ExtEdit, testing::Values(Words{}, Words{"-O", "^metadata_csum"}));

}  // namespace
}  // namespace jh::test
