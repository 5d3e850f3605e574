// Layers on layers, as a guest's own tools have made them: encrypted partitions, a group on a
// volume of another one, a disk with its own table that is kept as a volume.
#include "core/store/file_store.h"
#include "support/test.h"
#include "support/volumes.h"

namespace jh::test {
namespace {

class NestedStory : public testing::Test {
 protected:
  void SetUp() override { unpack_sample("nested", image_); }
  // A growth, sound in every layer, that is taken back to the byte; look(what it said) before.
  template <class Look>
  void expect_growth(const Words& words, Look look) {
    const std::uint32_t before = file_digest(image_);
    Words command = Words{"grow", image_, "--yes"} + words;
    SCOPED_TRACE(words.back());
    const ProgramResult done = succeeds(command);
    expect_status(0, {"audit", image_, "--proof", "full"});
    look(done);
    succeeds({"undo", image_, "--yes"});
    EXPECT_EQ(file_digest(image_), before);
  }

  const TempFolder folder_;
  const std::string image_ = folder_ / "nested.img";
};

TEST_F(NestedStory, SurveyShowsEveryStorey) {
  const std::uint32_t before = file_digest(image_);
  const ProgramResult seen = succeeds({"survey", image_});
  for (const char* text :
       {"encrypted (LUKS1)", "encrypted (LUKS2)", "p1:payload", "locked", "\"stonechat\"",
        "p2: version 2, cipher aes-xts-plain64, key size 512 bits, key slots in use 1\n",
        "key slots in use 1 of 8", "group upland", "group hollow", "a disk with an MBR",
        "guestdisk:p1", "\"inside\"", "guestdisk:p2", "\"spare\"", "\"notes\""})
    EXPECT_TRUE(seen.said(text)) << text << "\n" << seen.out;
  const auto document = survey_of({image_});
  const auto& places = document["disks"][0]["places"];
  EXPECT_EQ(places[1]["content"]["details"]["cipher"], "aes-xts-plain64");
  EXPECT_EQ(places[1]["inner"][0]["name"], "p2:payload");
  EXPECT_EQ(places[1]["inner"][0]["content"]["name"], "locked");
  EXPECT_EQ(document["groups"].size(), 2U);
  EXPECT_EQ(file_digest(image_), before);
}

TEST_F(NestedStory, AuditLooksIntoEveryStorey) {
  expect_status(0, {"audit", image_},
                {"ext4 on hollow/notes", "ext4 on upland/guestdisk:p1", "its header is sound"});
}

// The place grows; what is locked stays as it is, and the plan says what is left to do.
TEST_F(NestedStory, GrowthReachesAnEncryptedLayerAndStops) {
  expect_status(6, {"grow", image_, "--give", "p2:payload"},
                {"p2:payload is encrypted, and locked without its key"});
  succeeds({"grow", image_, "--by", "32MiB", "--allow-move", "--give", "p2=16MiB", "--yes"},
           {"open it in the guest with its key"});
  expect_status(0, {"audit", image_});
  const auto document = survey_of({image_});
  EXPECT_EQ(document["disks"][0]["places"][1]["size"], 36 * mib);
  EXPECT_EQ(document["groups"].size(), 2U) << "the group that had to move is there with all in it";
  succeeds({"undo", image_, "--yes"});
}

// What is kept in a layer only grows from outside, and in place.
TEST_F(NestedStory, WhatCannotBeReachedIsNotTouched) {
  const std::uint32_t before = file_digest(image_);
  for (const char* target : {"upland/guestdisk:p1", "label:inside", "upland/guestdisk:p2"}) {
    SCOPED_TRACE(target);
    expect_status(6, {"shrink", image_, "--take", target, "--yes"},
                  {"lies on a disk that is kept in upland/guestdisk"});
  }
  expect_status(3, {"grow", image_, "--by", "32MiB", "--give", "upland/guestdisk:p1"},
                {"upland/guestdisk:p1 cannot grow: there is no room behind it"});
  expect_status(3, {"grow", image_, "--give", "upland/guestdisk:p2=64MiB"}, {"take what there is"});
  EXPECT_EQ(file_digest(image_), before);
}

std::uint64_t size_of(const std::string& image, const std::string& group, const char* volume) {
  const auto document = survey_of({image});
  for (const auto& each : document["groups"])
    for (const auto& one : each["volumes"])
      if (each["name"] == group && one["name"] == group + "/" + volume) return one["size"];
  return 0;
}

// One command from the image through both groups to the filesystem, and back to the byte.
TEST_F(NestedStory, RoomGoesThroughOneGroupToAnother) {
  struct Case {
    Words words;
    std::uint64_t notes;
    std::uint64_t peat;
  };
  for (const auto& [words, notes, peat] :
       {Case{{"--by", "64MiB", "--give", "hollow/notes=48MiB"}, 64 * mib, 65 * mib},
        Case{{"--by", "64MiB", "--give", "hollow/notes"}, 116 * mib, 117 * mib},
        Case{{"--give", "hollow/notes=8MiB"}, 24 * mib, 40 * mib},
        Case{{"--by", "64MiB", "--give", "upland/peat=20MiB"}, 16 * mib, 60 * mib},
        Case{{"--by", "64MiB", "--give", "hollow/notes=30MiB", "--give", "upland/guestdisk=9MiB"},
             46 * mib,
             47 * mib}}) {
    expect_growth(words, [&, notes = notes, peat = peat](const ProgramResult& done) {
      EXPECT_EQ(size_of(image_, "hollow", "notes"), notes) << done.out;
      EXPECT_EQ(size_of(image_, "upland", "peat"), peat) << done.out;
    });
    if (HasFatalFailure()) return;
  }
}

// From the image through a group and a volume to a partition of the disk that is kept there.
TEST_F(NestedStory, RoomGoesToAPartitionOfADiskInAVolume) {
  struct Case {
    Words words;
    std::uint64_t disk;
    std::uint64_t content;
  };
  for (const auto& [words, disk, content] :
       {Case{{"--by", "64MiB", "--give", "upland/guestdisk:p2=20MiB"}, 44 * mib, 35 * mib},
        Case{{"--give", "upland/guestdisk:p2"}, 37 * mib, 28 * mib},
        Case{{"--by", "32MiB", "--give", "label:spare=50%", "--give", "hollow/notes=4MiB"},
             69 * mib,
             37 * mib + 512 * 1024}}) {
    expect_growth(words, [&, disk = disk, content = content](const ProgramResult& done) {
      EXPECT_EQ(size_of(image_, "upland", "guestdisk"), disk) << done.out;
      // As a disk of its own, and by the system's checker.
      const std::string kept = folder_ / "kept.img";
      extract_volume({image_}, "upland/guestdisk", kept);
      const auto seen = survey_of({kept});
      const auto& spare = seen["disks"][0]["places"][1];
      EXPECT_EQ(spare["content"]["size"], content) << done.out;
      EXPECT_EQ(check_ext(kept, spare["offset"].get<std::uint64_t>()), "");
      files::remove(kept);
    });
    if (HasFatalFailure()) return;
  }
}

// A whole guest's disk as a volume of its host: image, table, group, volume, table, group, volume,
// filesystem, in one command.
TEST_F(NestedStory, RoomGoesThroughTheDiskOfAGuestOfTheGuest) {
  for (const auto& [sample, volume, target] :
       {std::tuple{"mbr-boot-lvm", "moorvg/rootlv", "moorvg/rootlv=100MiB"},
        std::tuple{"two-groups", "late.group/root", "late.group/root=60MiB"}}) {
    SCOPED_TRACE(sample);
    const std::string image = folder_ / (std::string(sample) + ".host");
    files::copy_file(image_, image);
    const std::string disk = unpack_sample(sample, folder_ / "disk");
    const std::string size = std::to_string(files::file_size(disk));
    ASSERT_EQ(juneheath({"grow", image, "--by", size, "--give", "upland/guestdisk=" + size, "--yes",
                         "--no-undo"})
                  .status,
              0);
    {
      FileStore host(image, Access::read_write);
      FileStore kept(disk, Access::read_only);
      std::uint64_t at = 0;
      for (const VolumePiece& piece : volume_pieces({image}, "upland/guestdisk")) {
        const std::uint64_t most = std::min(piece.length, kept.size() - at);
        for (std::uint64_t done = 0; done < most; done += mib)
          host.write(piece.offset + done, read_buffer(kept, at + done, std::min(mib, most - done)));
        at += most;
      }
    }
    const std::uint32_t before = file_digest(image);
    succeeds({"grow", image, "--by", "128MiB", "--give", target, "--yes"});
    expect_status(0, {"audit", image, "--proof", "full"});
    const std::string kept = folder_ / "kept.img";
    extract_volume({image}, "upland/guestdisk", kept);
    expect_status(0, {"audit", kept, "--proof", "full"});
    const std::string root = folder_ / "root";
    extract_volume({kept}, volume, root);
    EXPECT_EQ(check_ext(root), "");
    succeeds({"undo", image, "--yes"});
    EXPECT_EQ(file_digest(image), before);
    for (const std::string& file : {image, kept, root, disk}) files::remove(file);
  }
}

// What a loop of layers would look like: a volume that says to be a part of its own group.
TEST_F(NestedStory, AGroupOnItselfIsDamage) {
  const std::string bytes = read_file(image_);
  poke(image_, 26 * mib,
       bytes.substr(25 * mib, mib));  // label and text of upland, onto upland/peat
  const ProgramResult seen = expect_status(0, {"survey", image_});
  const char* what = "part of group upland, which lies below it or is there twice";
  EXPECT_TRUE(seen.said(what)) << seen.out;
  expect_status(4, {"audit", image_}, {what});
  const std::uint32_t before = file_digest(image_);
  const ProgramResult grow = juneheath({"grow", image_, "--by", "16MiB", "--give", "upland/peat"});
  EXPECT_NE(grow.status, 0);
  EXPECT_EQ(file_digest(image_), before);
}

// Three storeys, and what stands between is a target too: it needs what it hands on besides.
TEST_F(NestedStory, RoomGoesThroughThreeGroups) {
  const std::string image = unpack_sample("three-groups", folder_ / "three.img");
  const std::uint32_t before = file_digest(image);
  const ProgramResult done = succeeds({"grow", image, "--by", "64MiB", "--give", "gill/pool=20MiB",
                                       "--give", "tarn/rings=30MiB", "--yes"});
  EXPECT_EQ(size_of(image, "gill", "pool"), 28 * mib) << done.out;
  EXPECT_EQ(size_of(image, "tarn", "rings"), 46 * mib) << done.out;
  expect_status(0, {"audit", image, "--proof", "full"});
  succeeds({"undo", image, "--yes"});
  EXPECT_EQ(file_digest(image), before);
}

// What was handed out to a volume of the second storey is looked for where it lies on the disk.
TEST_F(NestedStory, AnUndoSeesWhatTheGuestPutIntoRoomOfTheSecondStorey) {
  const std::string image = unpack_sample("three-groups", folder_ / "three.img");
  // gill/pool holds what nobody knows: fell's extents begin at 1 MiB, gill's 1 MiB into fell/scar.
  const std::uint64_t pool = (1 + 1 + 24) * mib;
  poke(image, pool, std::string(mib, 'r'));
  const std::uint32_t before = file_digest(image);
  const Words grow{"grow", image, "--give", "gill/pool=4MiB", "--yes"};
  succeeds(grow);
  poke(image, pool + 11 * mib + mib / 2, "ring 4711");
  expect_status(3, {"undo", image, "--yes"});
  poke(image, pool + 11 * mib + mib / 2, std::string(9, '\0'));
  expect_status(0, {"undo", image, "--yes"});
  EXPECT_EQ(file_digest(image), before);
}

TEST_F(NestedStory, TheInnerGroupBecomesSmaller) {
  const std::uint32_t before = file_digest(image_);
  succeeds({"shrink", image_, "--take", "hollow/notes=8MiB", "--yes"});
  EXPECT_EQ(size_of(image_, "hollow", "notes"), 8 * mib);
  expect_status(0, {"audit", image_});
  succeeds({"undo", image_, "--yes"});
  EXPECT_EQ(file_digest(image_), before);
}

TEST_F(NestedStory, AVolumeWithADiskInItGrowsAroundIt) {
  succeeds({"grow", image_, "--by", "32MiB", "--give", "upland/guestdisk=8MiB", "--yes"},
           {"upland/guestdisk is a disk with an MBR"});
  expect_status(0, {"audit", image_});
  expect_said({"survey", image_}, {"guestdisk:p1"});
  expect_status(0, {"shrink", image_, "--to", "floor", "--yes"});
  expect_status(0, {"audit", image_});
  expect_said({"survey", image_}, {"\"inside\""});
}

}  // namespace
}  // namespace jh::test
