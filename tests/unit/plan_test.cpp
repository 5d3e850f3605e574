// Plans on the sample guests, in memory: amounts to the byte, and what is refused.
#include "core/plan/plan.h"

#include <gtest/gtest.h>

#include <algorithm>

#include "core/plan/grow.h"
#include "core/plan/room.h"
#include "support/samples.h"

namespace jh::test {
namespace {

class Plans : public testing::Test {
 protected:
  // Enlarged by `more` bytes of nothing.
  void open(const std::string& sample, std::uint64_t more = 0) {
    unpack_sample(sample, folder_ / "guest.img");
    disk_ = std::make_unique<MemoryStore>(load(folder_ / "guest.img"));
    disk_->resize(disk_->size() + more);
    guest_ = std::make_unique<Guest>(std::vector<Guest::Image>{{"guest.img", disk_.get()}});
    request_ = {};
    request_.images = {"guest.img"};
  }
  Status refused() {
    try {
      plan_growth(*guest_, request_);
      return Status::done;
    } catch (const Error& error) {
      words_ = std::string(error.what()) + " / " + error.next();
      return error.status();
    }
  }
  template <class Kind>
  static const Step* first_of(const Plan& plan) {
    const auto found = std::find_if(plan.steps.begin(), plan.steps.end(),
                                    [&](const Step& s) { return s.is<Kind>(); });
    return found == plan.steps.end() ? nullptr : &*found;
  }

  TempFolder folder_;
  std::unique_ptr<MemoryStore> disk_;
  std::unique_ptr<Guest> guest_;
  GrowRequest request_;
  std::string words_;
};

TEST_F(Plans, NamesComeFromTheGuest) {
  open("nestcam");
  EXPECT_EQ(guest_->hostname(), "moorhost");
  const auto places = guest_->places();
  ASSERT_EQ(places.size(), 3U);
  EXPECT_EQ(guest_->best_name(*places[2]), "/");
  EXPECT_EQ(guest_->best_name(*places[1]), "/boot/efi");
  EXPECT_EQ(guest_->name_of(*places[0]), "p1");
  for (const char* target :
       {"/", "p3", "label:nestcam", "label:root", "uuid:9e48cf73-59c6-420b-b6f9-a5876ae0acd0"})
    EXPECT_EQ(find_target(*guest_, target), places[2]) << target;
  EXPECT_EQ(find_target(*guest_, "nothing"), nullptr);
  EXPECT_THROW(find_target(*guest_, "/home"), Error);
}

TEST_F(Plans, StepsInTheirOrder) {
  open("nestcam");
  request_.by = 1_GiB;
  const Plan plan = plan_growth(*guest_, request_);
  ASSERT_EQ(plan.steps.size(), 4U);
  EXPECT_TRUE(plan.steps[0].is<step::GrowContainer>());
  EXPECT_TRUE(plan.steps[1].is<step::MoveSpare>());
  EXPECT_TRUE(plan.steps[2].is<step::GrowPartition>());
  EXPECT_TRUE(plan.steps[3].is<step::GrowContent>());
  EXPECT_EQ(plan.target, "/");
  EXPECT_EQ(plan.disks[0].to - plan.disks[0].from, 1_GiB);
  EXPECT_EQ(plan.steps[2].to - plan.steps[2].from, 1_GiB);
}

TEST_F(Plans, AmountsAreMetToTheByte) {
  open("heather", 1ULL << 30);
  request_.gives = {parse_give("/=100MiB")};
  Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(first_of<step::GrowContent>(plan)->to - first_of<step::GrowContent>(plan)->from,
            100_MiB);
  EXPECT_EQ(first_of<step::GrowContainer>(plan), nullptr);
  request_.gives = {parse_give("/=25%")};
  plan = plan_growth(*guest_, request_);
  EXPECT_EQ(first_of<step::GrowPartition>(plan)->to - first_of<step::GrowPartition>(plan)->from,
            256_MiB);
  request_.gives = {parse_give("/=1025MiB")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_NE(words_.find("juneheath grow guest.img --give /=rest"), std::string::npos) << words_;
  request_.gives = {parse_give("/=1000")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_NE(words_.find("512 or 1024"), std::string::npos) << words_;
}

TEST_F(Plans, SizesBetweenSectorsAreRaisedAndSaid) {
  open("heather");
  request_.to = Bytes(300'000'100);
  const Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(plan.disks[0].to, Bytes(300'000'256));
  ASSERT_FALSE(plan.notes.empty());
  EXPECT_NE(plan.notes[0].find("156 bytes"), std::string::npos) << plan.notes[0];
}

TEST_F(Plans, WhatCannotBeMeantIsRefused) {
  open("heather");
  EXPECT_EQ(refused(), Status::refused);  // nothing asked for, no room
  request_.to = 100_MiB;
  EXPECT_EQ(refused(), Status::refused);
  request_.to.reset();
  request_.by = 1_GiB;
  request_.gives = {parse_give("/"), parse_give("p1=1MiB")};  // the same place
  EXPECT_EQ(refused(), Status::usage);
  request_.gives = {parse_give("/"), parse_give("nothing")};
  EXPECT_EQ(refused(), Status::usage);
  request_.gives = {parse_give("nothing=5MiB")};
  EXPECT_EQ(refused(), Status::usage);
  request_.gives = {parse_give("nothing")};
  EXPECT_EQ(refused(), Status::done);
}

TEST_F(Plans, RoomBehindALogicalPartition) {
  open("mbr-extended", 64ULL << 20);
  const auto places = guest_->places();
  const auto* last = places.back();
  EXPECT_EQ(guest_->best_name(*last), "/srv");
  EXPECT_EQ(room_of(*guest_, *last, guest_->disks()[0].size()), 64_MiB);
  const Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(plan.target, "/srv");
  EXPECT_EQ(std::count_if(plan.steps.begin(), plan.steps.end(),
                          [](const Step& s) { return s.is<step::GrowPartition>(); }),
            2);
  request_.gives = {parse_give("/")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_NE(words_.find("stands directly behind it"), std::string::npos) << words_;
}

}  // namespace
}  // namespace jh::test
