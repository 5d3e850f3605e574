// Layers on layers, as a guest's own tools have made them: encrypted partitions, a group on a
// volume of another one, a disk with its own table that is kept as a volume.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "support/program.h"
#include "support/samples.h"
#include "support/sizes.h"

namespace jh::test {
namespace {

class NestedStory : public testing::Test {
 protected:
  void SetUp() override { unpack_sample("nested", image_); }

  const TempFolder folder_;
  const std::string image_ = folder_ / "nested.img";
};

TEST_F(NestedStory, SurveyShowsEveryStorey) {
  const std::uint32_t before = file_digest(image_);
  const ProgramResult seen = juneheath({"survey", image_});
  ASSERT_EQ(seen.status, 0) << seen.err;
  for (const char* text :
       {"encrypted (LUKS1)", "encrypted (LUKS2)", "p1:payload", "locked", "\"stonechat\"",
        "p2: version 2, cipher aes-xts-plain64, key size 512 bits, key slots in use 1\n",
        "key slots in use 1 of 8", "group upland", "group hollow", "a disk with an MBR",
        "guestdisk:p1", "\"inside\"", "guestdisk:p2", "\"spare\"", "\"notes\""})
    EXPECT_TRUE(seen.said(text)) << text << "\n" << seen.out;
  const auto document = nlohmann::json::parse(juneheath({"survey", image_, "--json"}).out);
  const auto& places = document["disks"][0]["places"];
  EXPECT_EQ(places[1]["content"]["details"]["cipher"], "aes-xts-plain64");
  EXPECT_EQ(places[1]["inner"][0]["name"], "p2:payload");
  EXPECT_EQ(places[1]["inner"][0]["content"]["name"], "locked");
  EXPECT_EQ(document["groups"].size(), 2U);
  EXPECT_EQ(file_digest(image_), before);
}

TEST_F(NestedStory, AuditLooksIntoEveryStorey) {
  const ProgramResult sound = juneheath({"audit", image_});
  EXPECT_EQ(sound.status, 0) << sound.out;
  EXPECT_TRUE(sound.said("ext4 on hollow/notes")) << sound.out;
  EXPECT_TRUE(sound.said("ext4 on upland/guestdisk:p1")) << sound.out;
  EXPECT_TRUE(sound.said("its header is sound")) << sound.out;
}

// The place grows; what is locked stays as it is, and the plan says what is left to do.
TEST_F(NestedStory, GrowthReachesAnEncryptedLayerAndStops) {
  const ProgramResult no = juneheath({"grow", image_, "--give", "p2:payload"});
  EXPECT_EQ(no.status, 6);
  EXPECT_TRUE(no.said("p2:payload is encrypted, and locked without its key")) << no.err;
  const ProgramResult done =
      juneheath({"grow", image_, "--by", "32MiB", "--allow-move", "--give", "p2=16MiB", "--yes"});
  ASSERT_EQ(done.status, 0) << done.err;
  EXPECT_TRUE(done.said("open it in the guest with its key")) << done.out;
  EXPECT_EQ(juneheath({"audit", image_}).status, 0);
  const auto document = nlohmann::json::parse(juneheath({"survey", image_, "--json"}).out);
  EXPECT_EQ(document["disks"][0]["places"][1]["size"], 36 * mib);
  EXPECT_EQ(document["groups"].size(), 2U) << "the group that had to move is there with all in it";
  ASSERT_EQ(juneheath({"undo", image_, "--yes"}).status, 0);
}

TEST_F(NestedStory, WhatLiesInsideIsNotTouched) {
  const std::uint32_t before = file_digest(image_);
  for (const auto& [target, below] : {std::pair{"hollow/notes", "upland/peat"},
                                      {"upland/guestdisk:p1", "upland/guestdisk"},
                                      {"label:inside", "upland/guestdisk"}}) {
    const ProgramResult no = juneheath({"grow", image_, "--by", "32MiB", "--give", target});
    EXPECT_EQ(no.status, 6) << target;
    EXPECT_TRUE(no.said(std::string("make ") + below + " larger")) << no.err;
    EXPECT_EQ(juneheath({"shrink", image_, "--take", target, "--yes"}).status, 6) << target;
  }
  EXPECT_EQ(file_digest(image_), before);
}

TEST_F(NestedStory, AVolumeWithADiskInItGrowsAroundIt) {
  const ProgramResult done =
      juneheath({"grow", image_, "--by", "32MiB", "--give", "upland/guestdisk=8MiB", "--yes"});
  ASSERT_EQ(done.status, 0) << done.err << done.out;
  EXPECT_TRUE(done.said("upland/guestdisk is a disk with an MBR")) << done.out;
  EXPECT_EQ(juneheath({"audit", image_}).status, 0);
  EXPECT_TRUE(juneheath({"survey", image_}).said("guestdisk:p1"));
  EXPECT_EQ(juneheath({"shrink", image_, "--to", "floor", "--yes"}).status, 0);
  EXPECT_EQ(juneheath({"audit", image_}).status, 0);
  EXPECT_TRUE(juneheath({"survey", image_}).said("\"inside\""));
}

}  // namespace
}  // namespace jh::test
