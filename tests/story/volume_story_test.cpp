// Volumes through the built program, judged by the system's checker, its kernel and a boot loader's
// own reader of groups, volumes and files.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "core/lvm/device.h"
#include "core/store/file_store.h"
#include "core/store/views.h"
#include "support/volume_guest.h"

namespace jh::test {
namespace {

TEST_F(VolumeGuest, FreeExtentsOfTheGroupAreUsedFirst) {
  unpack({"fieldstation"});
  const auto tree = tree_of("field-station/var--log");
  const std::string loader_before =
      loader_sum(images_, "(lvm/field--station-var----log)/noise.bin");
  const ProgramResult grown = grow({"--give", "/var/log=40MiB"});
  ASSERT_EQ(grown.status, 0) << grown.err;
  EXPECT_TRUE(grown.said("add 10 extents of 4 MiB")) << grown.out;
  EXPECT_EQ(std::filesystem::file_size(images_[0]), 768ULL << 20);
  const std::uint64_t capacity = expect_sound("field-station/var--log", tree);
  if (can_mount()) {
    EXPECT_GE(capacity, 140ULL << 20);
  }
  EXPECT_EQ(loader_sum(images_, "(lvm/field--station-var----log)/noise.bin"), loader_before);
  EXPECT_EQ(loader_before.find("failed"), std::string::npos) << loader_before;
  expect_audit_clean();
  undo_and_compare();
}

TEST_F(VolumeGuest, ThePhysicalVolumeGrowsInPlaceForSeveralTargets) {
  unpack({"fieldstation"});
  const auto root = tree_of("field-station/root");
  const auto home = tree_of("field-station/home");
  const ProgramResult grown = grow({"--by", "1GiB", "--give", "/home=25%", "--give", "swap=64MiB",
                                    "--give", "/=rest", "--proof", "full"});
  ASSERT_EQ(grown.status, 0) << grown.err;
  // 27 free and 256 new extents: a quarter of them, 16, and what is left.
  EXPECT_TRUE(grown.said("add 70 extents")) << grown.out;
  EXPECT_TRUE(grown.said("add 16 extents")) << grown.out;
  EXPECT_TRUE(grown.said("add 197 extents")) << grown.out;
  expect_sound("field-station/root", root);
  expect_sound("field-station/home", home);
  const std::string devices = loader_devices(images_);
  for (const char* volume : {"root", "home", "swap_1", "var----log"})
    EXPECT_NE(devices.find(fmt::format("(lvm/field--station-{})", volume)), std::string::npos)
        << devices;
  expect_audit_clean();
  ASSERT_EQ(grow({"--by", "128MiB", "--give", "/home"}).status, 0);
  expect_sound("field-station/home", home);
  EXPECT_EQ(undo().status, 0);
}

TEST_F(VolumeGuest, EveryWayOfNamingAVolumeInFstabIsUnderstood) {
  unpack({"fieldstation"});
  for (const char* target :
       {"/", "/var/log", "/home", "swap", "field-station/root", "field-station/swap_1"}) {
    const ProgramResult plan = grow({"--give", target, "--dry-run"});
    EXPECT_EQ(plan.status, 0) << target << ": " << plan.err;
  }
  expect_untouched();
}

TEST_F(VolumeGuest, OldMetadataUnderAnMbrAndAFullGroup) {
  unpack({"mbr-boot-lvm"});
  const auto tree = tree_of("moorvg/rootlv");
  const std::string fstab = loader_sum(images_, "(lvm/moorvg-rootlv)/etc/fstab");
  const ProgramResult full = grow({"--give", "/=64MiB"});
  EXPECT_EQ(full.status, 3);
  EXPECT_TRUE(full.said("takes 16 extents of 4 MiB, and none is free")) << full.err;
  expect_untouched();
  const ProgramResult grown = grow({"--to", "2GiB", "--give", "/"});
  ASSERT_EQ(grown.status, 0) << grown.err;
  expect_sound("moorvg/rootlv", tree);
  EXPECT_EQ(loader_sum(images_, "(lvm/moorvg-rootlv)/etc/fstab"), fstab);
  expect_audit_clean();
  undo_and_compare();
}

// Found by random chains of commands: the disk is longer than its physical volume.
TEST_F(VolumeGuest, ADiskLongerThanItsPhysicalVolumeBecomesSmallerAroundIt) {
  unpack({"whole-disk-pv"});
  ASSERT_EQ(grow({"--by", "10MiB", "--give", "nothing"}).status, 0);
  const ProgramResult shrunk = juneheath({"shrink", images_[0], "--by", "5MiB", "--yes"});
  ASSERT_EQ(shrunk.status, 0) << shrunk.err;
  expect_audit_clean();
}

TEST_F(VolumeGuest, AWholeDiskIsThePhysicalVolume) {
  unpack({"whole-disk-pv"});
  const auto tree = tree_of("bare/data");
  const ProgramResult grown = grow({"--by", "512MiB"});  // only one volume can be meant
  ASSERT_EQ(grown.status, 0) << grown.err;
  expect_sound("bare/data", tree);
  expect_audit_clean();
  undo_and_compare();
}

TEST_F(VolumeGuest, AGroupOverTwoDisksIsWrittenOnBoth) {
  unpack({"two-disk-a", "two-disk-b"});
  const auto store = tree_of("twodisk/store");
  const auto scratch = tree_of("twodisk/striped");
  const std::string noise = loader_sum(images_, "(lvm/twodisk-striped)/noise.bin");
  // Neither can grow without the other: the stripes need room on both.
  const ProgramResult one = grow({"--give", "/scratch=16MiB"});
  EXPECT_EQ(one.status, 3);
  expect_untouched();
  ASSERT_EQ(grow({"--disk", "1", "--by", "256MiB", "--give", "/=8MiB"}).status, 0);
  const ProgramResult grown = grow({"--give", "/scratch=60MiB", "--give", "/=rest"});
  ASSERT_EQ(grown.status, 0) << grown.err;
  EXPECT_TRUE(grown.said("rows of 2 extents")) << grown.out;
  expect_sound("twodisk/store", store);
  expect_sound("twodisk/striped", scratch);
  EXPECT_EQ(loader_sum(images_, "(lvm/twodisk-striped)/noise.bin"), noise);
  // Both copies say the same.
  const std::string a = metadata_text(images_[0], 68157952 - 512);
  EXPECT_EQ(a, metadata_text(images_[1], 1049088 - 512));
  EXPECT_NE(a.find("seqno = 5"), std::string::npos) << a;
  EXPECT_NE(a.find("description = \"juneheath grow: /scratch, /\""), std::string::npos) << a;
  expect_audit_clean();
}

TEST_F(VolumeGuest, UndoCoversBothDisks) {
  unpack({"two-disk-a", "two-disk-b"});
  ASSERT_EQ(grow({"--disk", "2", "--by", "1GiB", "--give", "/"}).status, 0);
  EXPECT_NE(file_digest(images_[0]), digests_[0]);
  EXPECT_NE(file_digest(images_[1]), digests_[1]);
  undo_and_compare();
}

TEST_F(VolumeGuest, AMissingDiskIsNamedAndNothingChanges) {
  unpack({"two-disk-a"});
  const ProgramResult refused = grow({"--by", "1GiB", "--give", "twodisk/store"});
  EXPECT_EQ(refused.status, 3);
  EXPECT_TRUE(refused.said("lacks a physical volume")) << refused.err;
  EXPECT_TRUE(refused.said("name all disks")) << refused.err;
  expect_untouched();
}

TEST_F(VolumeGuest, OneDiskTwiceIsADuplicate) {
  unpack({"two-disk-a", "two-disk-b"});
  std::filesystem::copy_file(images_[1], folder_ / "copy.img");
  images_.push_back(folder_ / "copy.img");
  digests_.push_back(digests_[1]);
  const ProgramResult refused = grow({"--disk", "1", "--by", "1GiB", "--give", "twodisk/store"});
  EXPECT_EQ(refused.status, 3);
  EXPECT_TRUE(refused.said("have the identity")) << refused.err;
  expect_untouched();
}

TEST_F(VolumeGuest, AnAmountThatIsOneExtentShortIsRefusedWithBothCounts) {
  unpack({"fieldstation"});
  const ProgramResult refused = grow({"--by", "512MiB", "--give", "/var/log=624MiB"});
  EXPECT_EQ(refused.status, 3);
  EXPECT_TRUE(refused.said("takes 156 extents of 4 MiB, and there are 155")) << refused.err;
  EXPECT_TRUE(refused.said("--give /var/log=rest")) << refused.err;
  expect_untouched();
  ASSERT_EQ(grow({"--by", "512MiB", "--give", "/var/log=rest"}).status, 0);
}

TEST_F(VolumeGuest, RoundingUpIsSaid) {
  unpack({"fieldstation"});
  const ProgramResult plan = grow({"--give", "/home=10MiB", "--dry-run"});
  EXPECT_EQ(plan.status, 0);
  EXPECT_TRUE(plan.said("/home gets 12 MiB")) << plan.out;
}

TEST_F(VolumeGuest, MoreThanOneRestOrOneTargetTwiceIsWrongUsage) {
  unpack({"fieldstation"});
  EXPECT_EQ(grow({"--give", "/home", "--give", "/"}).status, 2);
  EXPECT_EQ(grow({"--give", "/home=4MiB", "--give", "field-station/home"}).status, 2);
  const ProgramResult mixed = grow({"--give", "/home=4MiB", "--give", "/boot"});
  EXPECT_EQ(mixed.status, 3);
  EXPECT_TRUE(mixed.said("/boot cannot grow: p3")) << mixed.err;
  EXPECT_TRUE(mixed.said("--allow-move --give /home=4MiB --give /boot")) << mixed.err;
  const ProgramResult which = grow({"--by", "1GiB"});
  EXPECT_EQ(which.status, 3);
  EXPECT_TRUE(which.said("--give /var/log")) << which.err;
  expect_untouched();
}

TEST_F(VolumeGuest, ASuspendedSystemInSwapIsRefused) {
  unpack({"fieldstation"});
  // The swap volume begins at extent 115 of p3's data.
  poke(images_[0], 102760960 - 512 + (1 << 20) + 115ULL * (4 << 20) + 4086, "S1SUSPEND\0");
  digests_[0] = file_digest(images_[0]);
  const ProgramResult refused = grow({"--give", "swap=8MiB"});
  EXPECT_EQ(refused.status, 3);
  EXPECT_TRUE(refused.said("suspended")) << refused.err;
  expect_untouched();
}

// One volume of the sample becomes one of another kind: what the metadata says counts.
class OtherKinds : public VolumeGuest, public testing::WithParamInterface<const char*> {};

TEST_P(OtherKinds, AreShownKeptAndRefusedByName) {
  constexpr std::uint64_t device_start = 102760448;
  unpack({"fieldstation"});
  {
    FileStore file(images_[0], Access::read_write);
    WindowStore place(file, device_start, file.size() - device_start - (1 << 20), "p3");
    lvm::Device device = lvm::read_device(place);
    for (lvm::MetadataArea& area : device.areas) {
      std::string text = area.text;
      const std::size_t type = text.find("\"striped\"", text.find("swap_1 {"));
      ASSERT_NE(type, std::string::npos);
      text.replace(type, 9, fmt::format("\"{}\"", GetParam()));
      lvm::write_area(place, area, text);
    }
  }
  digests_[0] = file_digest(images_[0]);
  const auto pieces = volume_pieces(images_, "field-station/home");
  const ProgramResult survey = juneheath({"survey", images_[0]});
  EXPECT_EQ(survey.status, 0) << survey.err;
  EXPECT_TRUE(survey.said(GetParam())) << survey.out;
  const ProgramResult refused = grow({"--give", "field-station/swap_1=8MiB"});
  EXPECT_EQ(refused.status, 6) << refused.out << refused.err;
  EXPECT_TRUE(refused.said(GetParam())) << refused.err;
  expect_untouched();

  const std::string kept = metadata_text(images_[0], device_start);
  const auto section = [](const std::string& text) {
    const std::size_t start = text.find("swap_1 {");
    return text.substr(start, text.find("\n}", start) - start);
  };
  const auto home = tree_of("field-station/home");
  const ProgramResult grown = grow({"--by", "256MiB", "--give", "/home"});
  ASSERT_EQ(grown.status, 0) << grown.err;
  expect_sound("field-station/home", home);
  EXPECT_EQ(section(metadata_text(images_[0], device_start)), section(kept));
  undo_and_compare();
}

INSTANTIATE_TEST_SUITE_P(Kinds, OtherKinds,
                         testing::Values("thin", "thin-pool", "mirror", "raid1", "raid5_ls",
                                         "cache", "cache-pool", "snapshot", "vdo", "writecache",
                                         "integrity"));

}  // namespace
}  // namespace jh::test
