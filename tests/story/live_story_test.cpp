// The system that this runs on: a loop device with a partition stands for a disk of a machine, and
// becomes larger while it is mounted.
#include <fcntl.h>
#include <linux/blkpg.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "support/schema.h"
#include "support/test.h"

namespace jh::test {
namespace {

// A loop device, detached at the end.
class Loop {
 public:
  explicit Loop(const std::string& image) {
    const ProgramResult made = run({"losetup", "-f", "--show", image});
    path_ = made.out.substr(0, made.out.find('\n'));
  }
  Loop(const Loop&) = delete;
  Loop& operator=(const Loop&) = delete;
  ~Loop() {
    run({"umount", path_ + "p1"});
    tell(BLKPG_DEL_PARTITION, 0, 0);
    run({"losetup", "-d", path_});
  }
  const std::string& path() const { return path_; }
  std::string partition() const { return path_ + "p1"; }
  bool add_partition(std::uint64_t start, std::uint64_t size) const {
    tell(BLKPG_DEL_PARTITION, 0, 0);  // left by a test that was stopped
    return tell(BLKPG_ADD_PARTITION, start, size) && files::exists(path_ + "p1");
  }

 private:
  bool tell(int operation, std::uint64_t start, std::uint64_t size) const {
    const int fd = ::open(path_.c_str(), O_RDWR | O_CLOEXEC);
    blkpg_partition partition{};
    partition.start = static_cast<long long>(start);
    partition.length = static_cast<long long>(size);
    partition.pno = 1;
    blkpg_ioctl_arg call{operation, 0, sizeof(partition), &partition};
    const bool done = ::ioctl(fd, BLKPG, &call) == 0;
    ::close(fd);
    return done;
  }

  std::string path_;
};

// A partition from 1 MiB on, in an MBR, with a filesystem in it.
void make_disk(const std::string& image, const std::string& kind, std::uint64_t size) {
  const std::string inside = image + ".inside";
  (kind == "xfs" ? make_xfs : kind == "btrfs" ? make_btrfs : make_ext)(inside, size, {}, true);
  make_sparse_file(image, size + mib);
  run({"dd", "if=" + inside, "of=" + image, "bs=1M", "seek=1", "conv=notrunc,sparse"});
  set_mbr_entry(image, 0, 0x83, 2048, static_cast<std::uint32_t>(size / 512));
  poke(image, 510, "\x55\xAA");
  files::remove(inside);
}

class LiveStory : public testing::TestWithParam<const char*> {};

TEST_P(LiveStory, AMountedFilesystemTakesTheRoomOfItsDisk) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const std::string kind = GetParam();
  const TempFolder folder;
  const std::string image = folder / "disk.img";
  const std::string point = folder / "moor";
  files::create_directory(point);
  const std::uint64_t size = kind == "xfs" ? 320 * mib : 200 * mib;
  make_disk(image, kind, size);
  {
    const Loop loop(image);
    if (!loop.add_partition(mib, size)) GTEST_SKIP() << "no partitions of loop devices here";
    ASSERT_EQ(run({"mount", loop.partition(), point}).status, 0);
    write_file(point + "/ring", "before");
    const Words base{"--live", loop.path(), "--ledger-dir", folder / "kept"};
    const auto with = [&](int status, Words words) {
      words.insert(words.begin() + 1, base.begin(), base.end());
      return expect_status(status, words);
    };
    // Nothing to do: refused, or well ended where that was asked for.
    with(3, {"grow", "--give", point, "--yes"});
    const ProgramResult well = with(0, {"grow", "--give", point, "--yes", "--if-room", "--json"});
    EXPECT_EQ(check_schema(well.out), "");
    EXPECT_TRUE(nlohmann::json::parse(well.out).at("nothing_to_do").get<bool>());

    files::resize_file(image, size + 500 * mib);
    ASSERT_EQ(run({"losetup", "-c", loop.path()}).status, 0);
    const ProgramResult survey = with(0, {"survey", "--json"});
    EXPECT_EQ(check_schema(survey.out), "");
    const auto place = nlohmann::json::parse(survey.out).at("disks").at(0).at("places").at(0);
    EXPECT_GT(place.at("room").get<std::uint64_t>(), 490 * mib);
    EXPECT_EQ(place.at("mount_points").at(0), point);

    const ProgramResult dry =
        juneheath(Words{"grow"} + base + Words{"--give", point, "--dry-run", "--json"});
    EXPECT_EQ(check_schema(dry.out), "");
    if (kind == "ext4" && dry.status == 6) {
      // Its driver asks for more than many a test machine gives: said before anything is begun.
      EXPECT_THAT(dry.out, HasSubstr("CAP_SYS_RESOURCE"));
      with(6, {"grow", "--give", point, "--yes"});
      EXPECT_FALSE(files::exists(folder / "kept"));
      return;
    }
    EXPECT_EQ(dry.status, 0) << dry.err;
    EXPECT_FALSE(files::exists(folder / "kept"));
    const ProgramResult grown = with(0, {"grow", "--give", point, "--yes", "--json"});
    EXPECT_EQ(check_schema(grown.out), "");
    const auto result = nlohmann::json::parse(grown.out);
    // The tables are kept; once the room is in use nothing offers to put them back.
    const std::string kept = result.at("tables_kept").at("folder");
    EXPECT_FALSE(files::is_empty(kept));
    EXPECT_FALSE(files::exists(kept + "/put-back"));
    EXPECT_EQ(result.at("tables_kept").at("put_back"), "");
    EXPECT_GT(files::space(point).capacity, size + 400 * mib);
    EXPECT_EQ(read_file(point + "/ring"), "before");
    write_file(point + "/film", std::string(100 * mib, 'f'));
    ASSERT_EQ(run({"umount", point}).status, 0);
  }
  // The table is whole, and so is what is in the partition.
  expect_status(0, {"audit", image});
  run({"dd", "if=" + image, "of=" + (folder / "inside"), "bs=1M", "skip=1", "conv=sparse"});
  const auto check = [&](const std::string& inside) {
    return kind == "xfs"     ? check_xfs(inside)
           : kind == "btrfs" ? check_btrfs(inside)
                             : check_ext(inside);
  };
  EXPECT_EQ(check(folder / "inside"), "");
}

INSTANTIATE_TEST_SUITE_P(Kinds, LiveStory, testing::Values("xfs", "btrfs", "ext4"), by_name);

TEST(LiveWords, WhatDoesNotGoTogetherIsSaid) {
  const std::vector<Words> wrong{{"grow", "--live", "--to", "5GiB"},
                                 {"grow", "--live", "--by", "5GiB"},
                                 {"grow", "--live", "--allow-move"},
                                 {"grow", "--live", "--into", "x"},
                                 {"grow", "--if-room", "/nowhere"},
                                 {"survey", "--live", "--each"},
                                 {"grow"}};
  for (const auto& words : wrong) expect_status(2, words, {"next:"});
  expect_status(3, {"survey", "--live", "/dev/no-such-disk"});
}

}  // namespace
}  // namespace jh::test
