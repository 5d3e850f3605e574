// Volumes through the built program, judged by the system's checker, its kernel and a boot loader's
// own reader of groups, volumes and files.
#include "core/lvm/device.h"
#include "core/store/file_store.h"
#include "core/store/views.h"
#include "support/test.h"
#include "support/volume_guest.h"

namespace jh::test {
namespace {

TEST_F(VolumeGuest, FreeExtentsOfTheGroupAreUsedFirst) {
  unpack({"fieldstation"});
  const auto tree = tree_of("field-station/var--log");
  const std::string loader_before =
      loader_sum(images_, "(lvm/field--station-var----log)/noise.bin");
  grows({"--give", "/var/log=40MiB"}, {"add 10 extents of 4 MiB"});
  EXPECT_EQ(files::file_size(images_[0]), 768ULL << 20);
  const std::uint64_t capacity = expect_sound("field-station/var--log", tree);
  if (can_mount()) {
    EXPECT_GE(capacity, 140ULL << 20);
  }
  EXPECT_EQ(loader_sum(images_, "(lvm/field--station-var----log)/noise.bin"), loader_before);
  EXPECT_THAT(loader_before, Not(HasSubstr("failed")));
  expect_audit_clean();
  undo_and_compare();
}

TEST_F(VolumeGuest, ThePhysicalVolumeGrowsInPlaceForSeveralTargets) {
  unpack({"fieldstation"});
  const auto root = tree_of("field-station/root");
  const auto home = tree_of("field-station/home");
  const ProgramResult grown = grows({"--by", "1GiB", "--give", "/home=25%", "--give", "swap=64MiB",
                                     "--give", "/=rest", "--proof", "full"});
  // 27 free and 256 new extents: a quarter of them, 16, and what is left.
  EXPECT_TRUE(grown.said("add 70 extents")) << grown.out;
  EXPECT_TRUE(grown.said("add 16 extents")) << grown.out;
  EXPECT_TRUE(grown.said("add 197 extents")) << grown.out;
  expect_sound("field-station/root", root);
  expect_sound("field-station/home", home);
  const std::string devices = loader_devices(images_);
  for (const char* volume : {"root", "home", "swap_1", "var----log"})
    EXPECT_THAT(devices, HasSubstr(fmt::format("(lvm/field--station-{})", volume)));
  expect_audit_clean();
  grows({"--by", "128MiB", "--give", "/home"});
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
  expect_grow(3, {"--give", "/=64MiB"}, {"takes 16 extents of 4 MiB, and none is free"});
  expect_untouched();
  grows({"--to", "2GiB", "--give", "/"});
  expect_sound("moorvg/rootlv", tree);
  EXPECT_EQ(loader_sum(images_, "(lvm/moorvg-rootlv)/etc/fstab"), fstab);
  expect_audit_clean();
  undo_and_compare();
}

// Found by random chains of commands: the disk is longer than its physical volume.
TEST_F(VolumeGuest, ADiskLongerThanItsPhysicalVolumeBecomesSmallerAroundIt) {
  unpack({"whole-disk-pv"});
  grows({"--by", "10MiB", "--give", "nothing"});
  succeeds({"shrink", images_[0], "--by", "5MiB", "--yes"});
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
  expect_grow(3, {"--give", "/scratch=16MiB"});
  expect_untouched();
  grows({"--disk", "1", "--by", "256MiB", "--give", "/=8MiB"});
  grows({"--give", "/scratch=60MiB", "--give", "/=rest"}, {"rows of 2 extents"});
  expect_sound("twodisk/store", store);
  expect_sound("twodisk/striped", scratch);
  EXPECT_EQ(loader_sum(images_, "(lvm/twodisk-striped)/noise.bin"), noise);
  // Both copies say the same.
  const std::string a = metadata_text(images_[0], 68157952 - 512);
  EXPECT_EQ(a, metadata_text(images_[1], 1049088 - 512));
  EXPECT_THAT(a, HasSubstr("seqno = 5"));
  EXPECT_THAT(a, HasSubstr("description = \"juneheath grow: /scratch, /\""));
  expect_audit_clean();
}

TEST_F(VolumeGuest, UndoCoversBothDisks) {
  unpack({"two-disk-a", "two-disk-b"});
  grows({"--disk", "2", "--by", "1GiB", "--give", "/"});
  EXPECT_NE(file_digest(images_[0]), digests_[0]);
  EXPECT_NE(file_digest(images_[1]), digests_[1]);
  undo_and_compare();
}

TEST_F(VolumeGuest, AMissingDiskIsNamedAndNothingChanges) {
  unpack({"two-disk-a"});
  expect_grow(3, {"--by", "1GiB", "--give", "twodisk/store"},
              {"lacks a physical volume", "name all disks"});
  expect_untouched();
}

TEST_F(VolumeGuest, OneDiskTwiceIsADuplicate) {
  unpack({"two-disk-a", "two-disk-b"});
  files::copy_file(images_[1], folder_ / "copy.img");
  images_.push_back(folder_ / "copy.img");
  digests_.push_back(digests_[1]);
  expect_grow(3, {"--disk", "1", "--by", "1GiB", "--give", "twodisk/store"}, {"have the identity"});
  expect_untouched();
}

TEST_F(VolumeGuest, AnAmountThatIsOneExtentShortIsRefusedWithBothCounts) {
  unpack({"fieldstation"});
  expect_grow(3, {"--by", "512MiB", "--give", "/var/log=624MiB"},
              {"takes 156 extents of 4 MiB, and there are 155", "--give /var/log=rest"});
  expect_untouched();
  grows({"--by", "512MiB", "--give", "/var/log=rest"});
}

TEST_F(VolumeGuest, RoundingUpIsSaid) {
  unpack({"fieldstation"});
  expect_grow(0, {"--give", "/home=10MiB", "--dry-run"}, {"/home gets 12 MiB"});
}

TEST_F(VolumeGuest, MoreThanOneRestOrOneTargetTwiceIsWrongUsage) {
  unpack({"fieldstation"});
  expect_grow(2, {"--give", "/home", "--give", "/"});
  expect_grow(2, {"--give", "/home=4MiB", "--give", "field-station/home"});
  expect_grow(3, {"--give", "/home=4MiB", "--give", "/boot"},
              {"/boot cannot grow: p3", "--allow-move --give /home=4MiB --give /boot"});
  expect_grow(3, {"--by", "1GiB"}, {"--give /var/log"});
  expect_untouched();
}

TEST_F(VolumeGuest, ASuspendedSystemInSwapIsRefused) {
  unpack({"fieldstation"});
  // The swap volume begins at extent 115 of p3's data.
  poke(images_[0], 102760960 - 512 + (1 << 20) + 115ULL * (4 << 20) + 4086, "S1SUSPEND\0");
  digests_[0] = file_digest(images_[0]);
  expect_grow(3, {"--give", "swap=8MiB"}, {"suspended"});
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
  expect_status(0, {"survey", images_[0]}, {GetParam()});
  expect_grow(6, {"--give", "field-station/swap_1=8MiB"}, {GetParam()});
  expect_untouched();

  const std::string kept = metadata_text(images_[0], device_start);
  const auto section = [](const std::string& text) {
    const std::size_t start = text.find("swap_1 {");
    return text.substr(start, text.find("\n}", start) - start);
  };
  const auto home = tree_of("field-station/home");
  grows({"--by", "256MiB", "--give", "/home"});
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
