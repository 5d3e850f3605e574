// The ways room reaches a volume, at the sizes guests have; each is one command.
#include "core/store/file_store.h"
#include "support/test.h"
#include "support/volume_guest.h"

namespace jh::test {
namespace {

class Room : public VolumeGuest {
 protected:
  // A disk of that size whose room was handed out before.
  void start_at(const std::string& size, const std::string& target) {
    grows({"--to", size, "--give", target, "--no-undo"});
  }
  std::string table_of(std::size_t image, const char* kind) {
    std::string text;
    for (const auto& [start, length] : listed_partitions(images_[image], kind))
      text += fmt::format("{}+{} ", start, length);
    return text;
  }
};

// A group that fills its disk; the disk becomes larger and everything grows where it is.
TEST_F(Room, A64GiBGuestBecomes128GiBInPlace) {
  SKIP_UNLESS_TAKEN(3)
  unpack({"mbr-boot-lvm"});
  const auto tree = tree_of("moorvg/rootlv");
  ASSERT_NO_FATAL_FAILURE(start_at("64GiB", "/"));
  grows({"--to", "128GiB", "--give", "/"});
  EXPECT_GE(expect_sound("moorvg/rootlv", tree), 118ULL << 30);
  EXPECT_THAT(table_of(0, "MBR"), HasSubstr(fmt::format("+{}", (128ULL << 30) - 101711872)));
  expect_audit_clean();
}

// The installer's custom: a new partition of type 0x8E behind the full one.
TEST_F(Room, ANewPartitionOfTheRightType) {
  unpack({"mbr-boot-lvm"});
  const auto tree = tree_of("moorvg/rootlv");
  grows({"--by", "20GiB", "--new-partition", "--give", "/"}, {"type 0x8e"});
  EXPECT_EQ(listed_partitions(images_[0], "MBR").size(), 3U);
  // The third entry of the table: its type byte.
  {
    FileStore disk(images_[0], Access::read_only);
    EXPECT_EQ(read_buffer(disk, 446 + 2 * 16 + 4, 1), Buffer{0x8E});
  }
  EXPECT_GE(expect_sound("moorvg/rootlv", tree), 19ULL << 30);
  EXPECT_THAT(loader_devices(images_), HasSubstr("(lvm/moorvg-rootlv)"));
  expect_audit_clean();
  undo_and_compare();
}

TEST_F(Room, ANewPartitionUnderAGpt) {
  unpack({"fieldstation"});
  const auto tree = tree_of("field-station/home");
  grows({"--by", "1GiB", "--new-partition", "--give", "/home"});
  EXPECT_EQ(listed_partitions(images_[0], "GPT").size(), 4U);
  expect_sound("field-station/home", tree);
  expect_audit_clean();
  // The new physical volume is the last one now, and grows in place.
  grows({"--by", "1GiB", "--give", "/home"});
  EXPECT_EQ(listed_partitions(images_[0], "GPT").size(), 4U);
  expect_sound("field-station/home", tree);
}

// Four entries are all an MBR has; then the extended partition takes another logical one.
TEST_F(Room, ALogicalPartitionWhereTheTableIsFull) {
  unpack({"mbr-boot-lvm"});
  const auto tree = tree_of("moorvg/rootlv");
  const std::uint64_t end = 512ULL << 20;
  files::resize_file(images_[0], end + (64ULL << 20));
  // p3: 16 MiB that hold nothing; p4: extended, 16 MiB, with nothing in it yet.
  set_mbr_entry(images_[0], 2, 0x83, end / 512, 32768);
  set_mbr_entry(images_[0], 3, 0x05, end / 512 + 32768, 32768);
  poke(images_[0], end + (16ULL << 20) + 510, "\x55\xAA");
  digests_[0] = file_digest(images_[0]);
  grows({"--by", "1GiB", "--give", "/"}, {"make a new logical partition (type 0x8e)"});
  expect_sound("moorvg/rootlv", tree);
  expect_audit_clean();
  EXPECT_THAT(loader_devices(images_), HasSubstr("(loop0,msdos5)"));
  // And a second one behind it.
  grows({"--by", "1GiB", "--new-partition", "--give", "/"});
  EXPECT_THAT(loader_devices(images_), HasSubstr("(loop0,msdos6)"));
  expect_sound("moorvg/rootlv", tree);
  expect_audit_clean();
}

TEST_F(Room, FourPrimariesAreExplained) {
  unpack({"mbr-boot-lvm"});
  files::resize_file(images_[0], 600ULL << 20);
  for (int i = 2; i < 4; ++i)
    set_mbr_entry(images_[0], i, 0x83, (512U << 11) + (i - 2) * 2048, 2048);
  digests_[0] = file_digest(images_[0]);
  expect_grow(3, {"--by", "1GiB", "--give", "/"}, {"four primary partitions", "--add-disk"});
  expect_untouched();
}

TEST_F(Room, AnAddedDiskAndItsUndo) {
  unpack({"fieldstation"});
  const auto tree = tree_of("field-station/var--log");
  const std::string extra = folder_ / "extra.img";
  grows({"--add-disk", extra + "=50GiB", "--give", "/var/log"}, {"attach the new disk"});
  images_.push_back(extra);
  digests_.push_back(0);
  EXPECT_EQ(files::file_size(extra), 50ULL << 30);
  EXPECT_EQ(files::status(extra).permissions(), files::status(images_[0]).permissions());
  EXPECT_EQ(listed_partitions(extra, "GPT").size(), 1U);
  EXPECT_GE(expect_sound("field-station/var--log", tree), 46ULL << 30);
  EXPECT_THAT(loader_devices(images_), HasSubstr("(lvm/field--station-var----log)"));
  expect_audit_clean();
  images_.pop_back();
  digests_.pop_back();
  const ProgramResult half = undo();
  EXPECT_EQ(half.status, 3);
  EXPECT_TRUE(half.said("juneheath undo " + images_[0] + " " + extra)) << half.err;
  undo_and_compare({extra});
  EXPECT_FALSE(files::exists(extra));
}

TEST_F(Room, AnAddedDiskUnderAnMbrHasOneToo) {
  unpack({"mbr-boot-lvm"});
  const auto tree = tree_of("moorvg/rootlv");
  const std::string extra = folder_ / "extra.img";
  grows({"--add-disk", extra + "=5GiB", "--give", "/"});
  EXPECT_EQ(listed_partitions(extra, "MBR").size(), 1U);
  images_.push_back(extra);
  expect_sound("moorvg/rootlv", tree);
  // The file is taken now.
  images_.pop_back();
  expect_grow(3, {"--add-disk", extra + "=5GiB", "--give", "/"});
}

TEST_F(Room, SwapGetsAnotherGiB) {
  unpack({"mbr-boot-lvm"});
  grows({"--by", "1GiB", "--give", "swap=1GiB"});
  const std::string copy = folder_ / "swap";
  extract_volume(images_, "moorvg/swaplv", copy);
  const std::string header = read_file(copy).substr(0, 4096);
  EXPECT_EQ(header.substr(4086, 10), "SWAPSPACE2");
  std::uint32_t last_page = 0;
  std::memcpy(&last_page, header.data() + 1028, 4);
  EXPECT_EQ(last_page, (64U + 1024U) * 256U - 1);
  undo_and_compare();
}

// Not one block is free in the filesystem; growing needs none.
TEST_F(Room, ARootThatIsFullToTheLastBlock) {
  if (!can_mount()) GTEST_SKIP() << "filling it needs a mount";
  unpack({"whole-disk-pv"});
  const auto piece = volume_pieces(images_, "bare/data").at(0);
  {
    const Mounted mounted(images_[0], piece.offset, piece.length, true);
    std::ofstream out(mounted.path() + "/full", std::ios::binary);
    const std::string block(1U << 16, 'x');
    while (out.write(block.data(), static_cast<std::streamsize>(block.size())).flush()) {
    }
  }
  const auto tree = tree_of("bare/data");
  grows({"--by", "20GiB"});
  expect_sound("bare/data", tree);
  expect_audit_clean();
}

// Such a guest does not look at devices that are not on its list.
TEST_F(Room, AGuestWithAListOfItsDevices) {
  if (!can_mount()) GTEST_SKIP() << "putting the list there needs a mount";
  unpack({"mbr-boot-lvm"});
  const auto piece = volume_pieces(images_, "moorvg/rootlv").at(0);
  {
    const Mounted mounted(images_[0], piece.offset, piece.length, true);
    files::create_directories(mounted.path() + "/etc/lvm/devices");
    write_file(mounted.path() + "/etc/lvm/devices/system.devices", "VERSION=1.1.1\n");
  }
  // Something stands behind the physical volume: only a new partition could take the room.
  files::resize_file(images_[0], 520ULL << 20);
  set_mbr_entry(images_[0], 2, 0x83, 512U << 11, 2048);
  digests_[0] = file_digest(images_[0]);
  expect_grow(3, {"--by", "1GiB", "--give", "/"}, {"system.devices", "--new-partition"});
  expect_untouched();
  expect_grow(0, {"--by", "1GiB", "--give", "/", "--new-partition"}, {"list of LVM devices"});
}

TEST_F(Room, WhatIsLockedInsideStillGetsItsVolume) {
  unpack({"fieldstation"});
  const auto piece = volume_pieces(images_, "field-station/home").at(0);
  // A header that a guest's own tool has made.
  unpack_sample("nested", folder_ / "nested.img");
  poke(images_[0], piece.offset, read_file(folder_ / "nested.img").substr(5 * mib, mib));
  digests_[0] = file_digest(images_[0]);
  grows({"--give", "field-station/home=40MiB"}, {"make the layer and what is in it larger there"});
  expect_audit_clean();
  undo_and_compare();
}

}  // namespace
}  // namespace jh::test
