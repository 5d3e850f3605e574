// Filesystems as they are when the guest loses power: copied while the kernel has them mounted.
// Replayed by us, they must show what the kernel's own replay shows.
#include <fcntl.h>
#include <unistd.h>

#include "core/base/errors.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/rest.h"
#include "core/store/file_store.h"
#include "core/store/views.h"
#include "support/ext_tools.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

void flush_file(const std::string& path) {
  const int fd = ::open(path.c_str(), O_RDONLY);
  ::fsync(fd);
  ::close(fd);
}

// Work that leaves much in the log: new files, renames, removals (whose blocks are used again, so
// that revocations are needed), an indexed directory, and files still open when the power goes.
void leave_unclean(const std::string& image, const std::string& copy) {
  const Mounted mounted(image, 0, 0, true);
  const files::path root = mounted.path();
  std::vector<int> open_files;
  for (int round = 0; round < 4; ++round) {
    const files::path folder = root / fmt::format("season{}", round);
    files::create_directories(folder);
    for (int i = 0; i < 150; ++i)
      write_file((folder / fmt::format("count-{}-of-golden-plovers", i)).string(),
                 std::string(static_cast<std::size_t>(i) * 20, 'p'));
    flush_file((folder / "count-149-of-golden-plovers").string());
    if (round > 0) {
      files::remove_all(root / fmt::format("season{}", round - 1));
      write_file((root / fmt::format("kept{}", round)).string(), std::string(300'000, 'k'));
      flush_file((root / fmt::format("kept{}", round)).string());
    }
  }
  files::rename(root / "season3/count-1-of-golden-plovers", root / "renamed");
  for (int i = 0; i < 3; ++i) {
    const std::string path = (root / fmt::format("open{}", i)).string();
    write_file(path, std::string(200'000, 'o'));
    open_files.push_back(::open(path.c_str(), O_RDWR));
    files::remove(path);
  }
  flush_file(root.string());
  flush_file((root / "renamed").string());
  run({"cp", "--sparse=always", image, copy});
  for (const int fd : open_files) ::close(fd);
}

class UncleanExt : public testing::TestWithParam<std::pair<const char*, Words>> {};

TEST_P(UncleanExt, ShowsWhatTheKernelShows) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const TempFolder folder;
  const std::string image = make_ext(folder / "fs", 64ULL << 20, GetParam().second);
  leave_unclean(image, folder / "unclean");
  // The kernel's own view: it replays when it mounts a copy for writing.
  run({"cp", "--sparse=always", folder / "unclean", folder / "theirs"});
  { const Mounted replay(folder / "theirs", 0, 0, true); }
  const auto expected = tree_facts(Mounted(folder / "theirs", 0).path());
  ASSERT_TRUE(expected.contains("renamed"));

  const std::string ours = folder / "ours";
  run({"cp", "--sparse=always", folder / "unclean", ours});
  expect_said({"grow", ours, "--to", "200MiB", "--dry-run"}, {"replay the journal"});
  succeeds({"grow", ours, "--to", "200MiB", "--proof", "full"});
  EXPECT_EQ(check_ext(ours), "");
  EXPECT_EQ(tree_difference(expected, tree_facts(Mounted(ours, 0).path())), "");
  succeeds({"undo", ours});
  EXPECT_EQ(file_digest(ours), file_digest(folder / "unclean"));
}

INSTANTIATE_TEST_SUITE_P(
    Kinds, UncleanExt,
    testing::Values(std::pair("Default", Words{}), std::pair("SmallBlocks", Words{"-b", "1024"}),
                    std::pair("Ext3", Words{"-t", "ext3"}),
                    std::pair("WithoutSums", Words{"-O", "^metadata_csum"}),
                    std::pair("Without64bit", Words{"-O", "^64bit"}),
                    std::pair("OrphanFile", Words{"-O", "orphan_file"}),
                    std::pair("FastCommits", Words{"-O", "fast_commit"}),
                    std::pair("FastCommitsSmallBlocks", Words{"-b", "1024", "-O", "fast_commit"}),
                    std::pair("SmallJournal", Words{"-J", "size=4"})),
    [](const auto& test) { return std::string(test.param.first); });

// New directories, renames, removals and growing files, all in fast commits. The kernel's own
// replay leaves wrong link counts for new directories; names and content are compared with it, the
// rest with the checker.
TEST(UncleanSample, FastCommitsOfManyKinds) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  for (const char* block_size : {"1024", "4096"}) {
    const TempFolder folder;
    const std::string image =
        make_ext(folder / "fs", 64ULL << 20, {"-b", block_size, "-O", "fast_commit"});
    {
      const Mounted mounted(image, 0, 0, true);
      const files::path root = mounted.path();
      const auto write_and_flush = [&](const files::path& path, std::size_t size) {
        write_file(path.string(), std::string(size, 'w'));
        flush_file(path.string());
      };
      write_and_flush(root / "first", 10);
      files::create_directories(root / "moor/east");
      for (int i = 0; i < 30; ++i)
        write_and_flush(root / "moor/east" / fmt::format("transect-{}", i),
                        static_cast<std::size_t>(i) * 1500);
      files::rename(root / "moor/east/transect-3", root / "moor/renamed");
      write_and_flush(root / "moor/renamed", 40'000);
      files::create_hard_link(root / "first", root / "moor/second-name");
      files::remove(root / "moor/east/transect-7");
      files::resize_file(root / "film.bin", 100'000);
      files::create_symlink("east", root / "moor/link");
      // Numbers of removed files and directories are used again, for the other kind.
      files::remove_all(root / "moor/east");
      files::create_directories(root / "moor/west/bog");
      for (int i = 0; i < 40; ++i)
        write_and_flush(root / "moor/west/bog" / fmt::format("sundew-{}", i), 9);
      write_and_flush(root / "moor/last", 77'777);
      // An index block must be given up: names into the large, indexed directory.
      write_and_flush(root / "rings/another-ring", 5);
      run({"cp", "--sparse=always", image, folder / "unclean"});
    }
    run({"cp", "--sparse=always", folder / "unclean", folder / "theirs"});
    { const Mounted replay(folder / "theirs", 0, 0, true); }
    const auto without_directories = [](Facts facts) {
      std::erase_if(facts, [](const auto& entry) { return entry.second.starts_with("4"); });
      return facts;
    };
    const auto expected = without_directories(tree_facts(Mounted(folder / "theirs", 0).path()));
    const std::string ours = folder / "unclean";
    expect_said({"survey", ours}, {"fast commit"});
    succeeds({"grow", ours, "--to", "200MiB", "--proof", "full"});
    EXPECT_EQ(check_ext(ours), "");
    EXPECT_EQ(tree_difference(expected, without_directories(tree_facts(Mounted(ours, 0).path()))),
              "");
  }
}

TEST(UncleanSample, TheSampleShowsWhatItMust) {
  const TempFolder folder;
  const std::string image = unpack_sample("dirty-ext4", folder / "guest.img");
  expect_said({"survey", image}, {"needs journal replay"});
  expect_status(0, {"audit", image});
  succeeds({"grow", image, "--by", "100MiB"});
  EXPECT_EQ(check_ext(image, 1048576), "");
  FileStore file(image, Access::read_only);
  WindowStore window(file, 1048576, file.size() - 1048576, "p1");
  ext::Filesystem fs(window);
  EXPECT_TRUE(ext::find_path(fs, "/late/renamed").has_value());
  EXPECT_FALSE(ext::find_path(fs, "/late/n1").has_value());
  EXPECT_FALSE(ext::find_path(fs, "/late/n5").has_value());
  EXPECT_TRUE(ext::find_path(fs, "/late/n6").has_value());
}

TEST(UncleanSample, AnExternalJournalIsRefusedByName) {
  const TempFolder folder;
  make_sparse_file(folder / "journal", 16ULL << 20);
  ASSERT_EQ(
      run({"mkfs.ext4", "-q", "-F", "-O", "journal_dev", "-b", "4096", folder / "journal"}).status,
      0);
  const std::string image = make_ext(folder / "fs", 64ULL << 20, {"-b", "4096"});
  // As its superblock would say: a journal, but not in an inode; and not cleanly unmounted.
  poke(image, 1024 + 0xE0, std::string(4, '\0'));
  poke(image, 1024 + 0x60, std::string("\xc6\x02", 2));
  const ProgramResult outcome = juneheath({"grow", image, "--to", "200MiB"});
  EXPECT_NE(outcome.status, 0);
  expect_said({"grow", folder / "journal", "--to", "200MiB"}, {"journal_dev"});
}

}  // namespace
}  // namespace jh::test
