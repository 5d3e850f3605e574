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
  if (kind == "xfs") {
    make_xfs(inside, size, {});
  } else if (kind == "btrfs") {
    make_btrfs(inside, size, {});
  } else {
    make_ext(inside, size, {});
  }
  MemoryStore disk(size + mib);
  const MemoryStore content = load(inside);
  MemoryStore readable(content, "content");
  Buffer part(mib);
  for (std::uint64_t at = 0; at < size; at += part.size()) {
    readable.read(at, part);
    if (part != Buffer(part.size())) disk.write(mib + at, part);
  }
  // One entry of type 0x83, from sector 2048 on.
  Buffer record(512);
  record[446 + 4] = 0x83;
  for (int i = 0; i < 4; ++i) {
    record[446 + 8 + i] = static_cast<std::uint8_t>(2048U >> (8 * i));
    record[446 + 12 + i] = static_cast<std::uint8_t>((size / 512) >> (8 * i));
  }
  record[510] = 0x55;
  record[511] = 0xAA;
  disk.write(0, record);
  save(disk, image);
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
    const auto with = [&](Words words) {
      words.insert(words.begin() + 1, base.begin(), base.end());
      return juneheath(words);
    };
    // Nothing to do: refused, or well ended where that was asked for.
    const ProgramResult none = with({"grow", "--give", point, "--yes"});
    EXPECT_EQ(none.status, 3) << none.err;
    const ProgramResult well = with({"grow", "--give", point, "--yes", "--if-room", "--json"});
    EXPECT_EQ(well.status, 0) << well.err;
    EXPECT_EQ(check_schema(well.out), "");
    EXPECT_TRUE(nlohmann::json::parse(well.out).at("nothing_to_do").get<bool>());

    files::resize_file(image, size + 500 * mib);
    ASSERT_EQ(run({"losetup", "-c", loop.path()}).status, 0);
    const ProgramResult survey = with({"survey", "--json"});
    EXPECT_EQ(survey.status, 0) << survey.err;
    EXPECT_EQ(check_schema(survey.out), "");
    const auto place = nlohmann::json::parse(survey.out).at("disks").at(0).at("places").at(0);
    EXPECT_GT(place.at("room").get<std::uint64_t>(), 490 * mib);
    EXPECT_EQ(place.at("mount_points").at(0), point);

    const ProgramResult dry = with({"grow", "--give", point, "--dry-run", "--json"});
    EXPECT_EQ(check_schema(dry.out), "");
    if (kind == "ext4" && dry.status == 6) {
      // Its driver asks for more than many a test machine gives: said before anything is begun.
      EXPECT_THAT(dry.out, HasSubstr("CAP_SYS_RESOURCE"));
      const ProgramResult refused = with({"grow", "--give", point, "--yes"});
      EXPECT_EQ(refused.status, 6);
      EXPECT_FALSE(files::exists(folder / "kept"));
      return;
    }
    EXPECT_EQ(dry.status, 0) << dry.err;
    EXPECT_FALSE(files::exists(folder / "kept"));
    const ProgramResult grown = with({"grow", "--give", point, "--yes", "--json"});
    ASSERT_EQ(grown.status, 0) << grown.err;
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
  EXPECT_EQ(juneheath({"audit", image}).status, 0) << juneheath({"audit", image}).out;
  MemoryStore disk = load(image);
  MemoryStore inside(disk.size() - mib);
  Buffer part(mib);
  for (std::uint64_t at = 0; at + mib <= inside.size(); at += mib) {
    disk.read(mib + at, part);
    if (part != Buffer(part.size())) inside.write(at, part);
  }
  save(inside, folder / "inside");
  if (kind == "ext4")
    EXPECT_EQ(run({"e2fsck", "-fn", folder / "inside"}).status, 0);
  else
    EXPECT_EQ(kind == "xfs" ? check_xfs(folder / "inside") : check_btrfs(folder / "inside"), "");
}

INSTANTIATE_TEST_SUITE_P(Kinds, LiveStory, testing::Values("xfs", "btrfs", "ext4"),
                         [](const auto& test) { return std::string(test.param); });

TEST(LiveWords, WhatDoesNotGoTogetherIsSaid) {
  const std::vector<Words> wrong{{"grow", "--live", "--to", "5GiB"},
                                 {"grow", "--live", "--by", "5GiB"},
                                 {"grow", "--live", "--allow-move"},
                                 {"grow", "--live", "--into", "x"},
                                 {"grow", "--if-room", "/nowhere"},
                                 {"survey", "--live", "--each"},
                                 {"grow"}};
  for (const auto& words : wrong) {
    const ProgramResult outcome = juneheath(words);
    EXPECT_EQ(outcome.status, 2) << words[1] << ": " << outcome.err;
    EXPECT_THAT(outcome.err, HasSubstr("next:"));
  }
  expect_status(3, {"survey", "--live", "/dev/no-such-disk"});
}

}  // namespace
}  // namespace jh::test
