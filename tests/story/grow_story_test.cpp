// What a technician does, through the built program, judged by the operating system.
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

struct GrownSample {
  const char* name;
  std::uint64_t offset;  // of the root filesystem, bytes
  Words request;
  std::uint64_t disk_after;
  std::uint64_t least_capacity;  // of the mounted filesystem afterwards
};

class GrowStory : public testing::TestWithParam<GrownSample> {};

TEST_P(GrowStory, OneCommandThenUndo) {
  const GrownSample& sample = GetParam();
  const TempFolder folder;
  const std::string image = unpack_sample(sample.name, folder / "guest.img");
  const std::uint32_t digest = file_digest(image);
  Facts tree;
  if (can_mount()) tree = tree_facts(Mounted(image, sample.offset).path());

  Words command = Words{"grow", image} + sample.request;
  succeeds(command, {"Before and after", "juneheath undo " + image});
  EXPECT_EQ(files::file_size(image), sample.disk_after);
  EXPECT_EQ(check_ext(image, sample.offset), "");
  if (can_mount()) {
    const Mounted mounted(image, sample.offset);
    EXPECT_GE(mounted.capacity(), sample.least_capacity);
    EXPECT_EQ(tree_difference(tree, tree_facts(mounted.path())), "");
  }
  expect_status(0, {"audit", image});
  const std::uint32_t digest_grown = file_digest(image);
  EXPECT_NE(digest_grown, digest);

  // A second growth on top, taken back alone.
  succeeds({"grow", image, "--by", "700MiB", "--proof", "full"});
  EXPECT_EQ(check_ext(image, sample.offset), "");
  if (can_mount()) {
    EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(image, sample.offset).path())), "");
  }
  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), digest_grown);
}

TEST_P(GrowStory, UndoIsByteIdentical) {
  const GrownSample& sample = GetParam();
  const TempFolder folder;
  const std::string image = unpack_sample(sample.name, folder / "guest.img");
  const std::uint32_t digest = file_digest(image);
  Words command = Words{"grow", image, "--quiet"} + sample.request;
  const ProgramResult grown = succeeds(command);
  EXPECT_EQ(grown.out, "");
  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), digest);
  EXPECT_FALSE(files::exists(image + ".juneheath"));
  expect_status(3, {"undo", image});
}

INSTANTIATE_TEST_SUITE_P(
    Samples, GrowStory,
    testing::Values(
        GrownSample{"heather", 1048576, {"--to", "1GiB"}, 1ULL << 30, 950ULL << 20},
        GrownSample{
            "nestcam", 52428800, {"--by", "1GiB", "--give", "/"}, 1409286144, 1200ULL << 20}),
    by_name);

TEST(Grow, AFullFilesystemGrowsLikeAnyOther) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const TempFolder folder;
  const std::string image = unpack_sample("heather", folder / "full.img");
  {
    const Mounted mounted(image, 1048576, 0, true);
    const ProgramResult full =
        run({"dd", "if=/dev/urandom", "of=" + mounted.path() + "/rings.db", "bs=64k"});
    EXPECT_TRUE(full.said("No space left")) << full.err;
  }
  const auto tree = tree_facts(Mounted(image, 1048576).path());
  succeeds({"grow", image, "--by", "256MiB"});
  EXPECT_EQ(check_ext(image, 1048576), "");
  EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(image, 1048576).path())), "");
}

// The guest can write to the grown filesystem, and it is still sound afterwards.
TEST(Grow, TheGuestCanUseTheRoom) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const TempFolder folder;
  const std::string image = unpack_sample("nestcam", folder / "used.img");
  succeeds({"grow", image, "--by", "1GiB"});
  {
    const Mounted mounted(image, 52428800, 0, true);
    const ProgramResult written =
        run({"dd", "if=/dev/zero", "of=" + mounted.path() + "/film.raw", "bs=1M", "count=900"});
    EXPECT_EQ(written.status, 0) << written.err;
  }
  EXPECT_EQ(check_ext(image, 52428800), "");
  expect_status(0, {"audit", image});
  expect_status(3, {"undo", image}, {"written since"});
}

// The disk was enlarged elsewhere: the survey says so, and grow uses the room.
TEST(Grow, UsesRoomThatIsThereAlready) {
  const TempFolder folder;
  for (const auto& [name, offset] : {std::pair("heather", 1048576ULL), {"nestcam", 52428800ULL}}) {
    const std::string image = unpack_sample(name, folder / (std::string(name) + ".img"));
    files::resize_file(image, 700ULL << 20);
    const std::uint32_t digest = file_digest(image);
    const ProgramResult survey =
        expect_said({"survey", image}, {"room", "juneheath grow " + image + " --give /"});
    if (std::string(name) == "nestcam") {
      EXPECT_TRUE(survey.said("larger than its GPT knows")) << survey.out;
    }
    const ProgramResult plan = expect_status(0, {"grow", image, "--dry-run"});
    if (std::string(name) == "nestcam") {
      EXPECT_TRUE(plan.said("move the backup copy to the disk's end")) << plan.out;
    }
    EXPECT_EQ(file_digest(image), digest);
    succeeds({"grow", image});
    EXPECT_EQ(files::file_size(image), 700ULL << 20);
    EXPECT_EQ(check_ext(image, offset), "");
    succeeds({"undo", image});
    EXPECT_EQ(file_digest(image), digest);
  }
}

// Junk in the room, from an earlier life of the disk, must not harm, and must come back with undo.
TEST(Grow, JunkInTheRoomIsHarmlessAndKeptForUndo) {
  const TempFolder folder;
  const std::string image = unpack_sample("nestcam", folder / "junk.img");
  files::resize_file(image, 900ULL << 20);
  std::string junk(3'000'000, '\0');
  for (std::size_t i = 0; i < junk.size(); ++i) junk[i] = static_cast<char>(i * 7 + i / 251);
  for (std::uint64_t at = 330ULL << 20; at < (890ULL << 20); at += 8'388'608 - 5000)
    poke(image, at, junk);
  const std::uint32_t digest = file_digest(image);
  succeeds({"grow", image, "--give", "/"});
  EXPECT_EQ(check_ext(image, 52428800), "");
  expect_status(0, {"audit", image});
  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), digest);
}

TEST(Grow, AmountsAndNothing) {
  const TempFolder folder;
  const std::string image = unpack_sample("heather", folder / "a.img");
  // A part of the room; the rest stays for later.
  succeeds({"grow", image, "--by", "1GiB", "--give", "p1=100MiB"});
  auto survey = survey_of({image});
  EXPECT_EQ(survey["schema"], "juneheath/1");
  EXPECT_EQ(survey["disks"][0]["places"][0]["content"]["size"], (191 + 100) << 20);
  EXPECT_EQ(survey["disks"][0]["places"][0]["room"], 924ULL << 20);
  succeeds({"grow", image, "--give", "label:ringing=50%"});
  survey = survey_of({image});
  EXPECT_EQ(survey["disks"][0]["places"][0]["content"]["size"], (291 + 462) << 20);
  EXPECT_EQ(check_ext(image, 1048576), "");
  expect_status(3, {"grow", image, "--give", "/=1GiB"}, {"/=rest"});
  // The disk alone.
  succeeds({"grow", image, "--by", "64MiB", "--give", "nothing"});
  survey = survey_of({image});
  EXPECT_EQ(survey["disks"][0]["disk_size"], (192ULL + 1024 + 64) << 20);
  EXPECT_EQ(survey["disks"][0]["places"][0]["content"]["size"], (291 + 462) << 20);
}

TEST(Grow, BackupAndNoUndo) {
  const TempFolder folder;
  const std::string image = unpack_sample("heather", folder / "a.img");
  const std::uint32_t digest = file_digest(image);
  const ProgramResult grown = succeeds(
      {"grow", image, "--by", "100MiB", "--backup", folder / "old.img", "--no-undo", "--json"});
  const auto document = nlohmann::json::parse(grown.out);
  EXPECT_TRUE(document["done"]);
  EXPECT_EQ(document["plan"]["disks"][0]["difference"], 100 << 20);
  EXPECT_EQ(file_digest(folder / "old.img"), digest);
  EXPECT_FALSE(files::exists(image + ".juneheath"));
  expect_status(3, {"grow", image, "--by", "1MiB", "--backup", folder / "old.img"});
}

TEST(Grow, KeepsTheFileSparse) {
  const TempFolder folder;
  const std::string image = unpack_sample("heather", folder / "a.img");
  ASSERT_EQ(juneheath({"grow", image, "--to", "2TiB"}).status, 3) << "beyond the reserved blocks";
  succeeds({"grow", image, "--to", "30GiB"});
  const auto survey = survey_of({image});
  EXPECT_LT(survey["disks"][0]["allocated_on_host"], 64 << 20);
  EXPECT_EQ(check_ext(image, 1048576), "");
}

TEST(Grow, AFilesystemOnTheWholeDisk) {
  const TempFolder folder;
  const std::string image = make_ext(folder / "plain.img", 64ULL << 20, {});
  succeeds({"grow", image, "--to", "300MiB"});
  EXPECT_EQ(check_ext(image), "");
  expect_said({"survey", image}, {"merlin"});
}

// A block device of the host: its size is not ours to change, but the room on it can be used.
TEST(Grow, ABlockDevice) {
  if (!can_mount()) GTEST_SKIP() << "needs loop devices";
  const TempFolder folder;
  const std::string file = unpack_sample("nestcam", folder / "volume");
  files::resize_file(file, 600ULL << 20);
  std::string device = run({"losetup", "--find", "--show", file}).out;
  ASSERT_TRUE(device.starts_with("/dev/loop")) << device;
  device.pop_back();
  const Words ledgers{"--ledger-dir", folder / "ledgers"};
  const auto with = [&](Words command) {
    command.insert(command.end(), ledgers.begin(), ledgers.end());
    return juneheath(command);
  };
  EXPECT_TRUE(with({"survey", device}).said("block device"));
  EXPECT_EQ(with({"grow", device, "--to", "1GiB"}).status, 3);
  const ProgramResult grown = with({"grow", device});
  EXPECT_EQ(grown.status, 0) << grown.err;
  EXPECT_EQ(check_ext(file, 52428800), "");
  EXPECT_EQ(with({"grow", device, "--dry-run"}).status, 3) << "nothing left to do";
  {
    const ProgramResult mounted =
        run({"mount", "-o", "ro,offset=52428800", device, folder.path().string()});
    const ProgramResult busy = with({"undo", device});
    EXPECT_EQ(busy.status, 3) << busy.out << busy.err;
    run({"umount", folder.path().string()});
    EXPECT_EQ(mounted.status, 0) << mounted.err;
  }
  EXPECT_EQ(with({"undo", device}).status, 0);
  run({"losetup", "--detach", device});
  EXPECT_EQ(check_ext(file, 52428800), "");
}

TEST(Grow, DisksWithLargeSectors) {
  const TempFolder folder;
  const std::string image = folder / "large.img";
  // An MBR of a disk with 4096-byte sectors: one partition, sectors 256 to 16383.
  make_sparse_file(image, 64ULL << 20);
  make_ext(folder / "fs", 63ULL << 20, {});
  write_file(folder / "mbr", std::string(446, '\0') +
                                 std::string("\x00\xfe\xff\xff\x83\xfe\xff\xff", 8) +
                                 std::string("\x00\x01\x00\x00\x00\x3f\x00\x00", 8) +
                                 std::string(48, '\0') + "\x55\xaa");
  poke(image, 0, read_file(folder / "mbr"));
  poke(image, 1 << 20, read_file(folder / "fs"));
  const auto survey = survey_of({image});
  EXPECT_EQ(survey["disks"][0]["table"]["sector_size"], 4096);
  succeeds({"grow", image, "--to", "200MiB"});
  EXPECT_EQ(check_ext(image, 1 << 20), "");
  expect_said({"survey", image}, {"199.0"});
}

}  // namespace
}  // namespace jh::test
