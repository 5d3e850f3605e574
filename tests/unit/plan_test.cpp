// Plans on the sample guests, in memory: amounts to the byte, and what is refused.
#include "core/plan/plan.h"

#include "cli/terminal.h"
#include "core/plan/grow.h"
#include "core/plan/grow_disk.h"
#include "core/plan/room.h"
#include "support/test.h"

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
      words_ = std::string(error.what()) + " / " + cli::text_of(error.next());
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
  const auto places = guest_->layers();
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
  EXPECT_THAT(words_, HasSubstr("juneheath grow guest.img --give /=rest"));
  request_.gives = {parse_give("/=1000B")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_THAT(words_, HasSubstr("512 or 1024"));
}

TEST_F(Plans, SizesBetweenSectorsAreRaisedAndSaid) {
  open("heather");
  request_.to = Bytes(300'000'100);
  const Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(plan.disks[0].to, Bytes(300'000'256));
  ASSERT_FALSE(plan.notes.empty());
  EXPECT_THAT(plan.notes[0], HasSubstr("156 bytes"));
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
  const auto places = guest_->layers();
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
  EXPECT_THAT(words_, HasSubstr("stands directly behind it"));
}

// Extents: what a group has free, what its devices gain, and who gets how many of them.
TEST_F(Plans, AGroupSharesItsExtents) {
  open("fieldstation", 60ULL << 20);
  request_.gives = {parse_give("/var/log=10MiB"), parse_give("/home=25%"), parse_give("/")};
  const Plan plan = plan_growth(*guest_, request_);
  ASSERT_EQ(plan.groups, Words{"field-station"});
  std::map<std::string, std::uint64_t> gained;
  plan.for_each<step::GrowVolume>([&](const Step& step, const step::GrowVolume& work) {
    gained[step.layer.volume] = work.extents;
  });
  // 27 free and 15 new: 3 for the size (whole extents), a quarter of all 42, the rest.
  EXPECT_EQ(gained["field-station/var--log"], 3U);
  EXPECT_EQ(gained["field-station/home"], 10U);
  EXPECT_EQ(gained["field-station/root"], 29U);
  EXPECT_TRUE(std::any_of(plan.notes.begin(), plan.notes.end(), [](const std::string& note) {
    return note.find("gets 12 MiB") != std::string::npos;
  }));
  // What fits as it is touches neither the table nor the physical volume.
  request_.gives = {parse_give("/home=100MiB")};
  const Plan inside = plan_growth(*guest_, request_);
  EXPECT_FALSE(inside.has<step::GrowPartition>());
  EXPECT_FALSE(inside.has<step::GrowPhysicalVolume>());
  request_.gives = {parse_give("/home=200MiB")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_THAT(words_, HasSubstr("50 extents of 4 MiB, and there are 42"));
  EXPECT_THAT(words_, HasSubstr("--give /home=rest"));
}

TEST_F(Plans, APhysicalVolumeAloneTakesItsRoom) {
  open("fieldstation", 60ULL << 20);
  request_.gives = {parse_give("p3")};
  const Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(first_of<step::GrowPhysicalVolume>(plan)->as<step::GrowPhysicalVolume>()->extents,
            182U);
  EXPECT_FALSE(plan.has<step::GrowVolume>());
  EXPECT_EQ(plan.target, "group field-station");
  request_.gives = {parse_give("p3=4MiB")};
  EXPECT_EQ(refused(), Status::unsupported);
}

// Each group by itself, and all steps on tables in front of those in groups.
TEST_F(Plans, TwoGroupsAreServedOneAfterTheOther) {
  open("two-groups", 64ULL << 20);
  request_.gives = {parse_give("first/pieces=20MiB"), parse_give("/")};
  const Plan plan = plan_growth(*guest_, request_);
  EXPECT_EQ(plan.groups.size(), 2U);
  std::size_t last_table = 0;
  std::size_t first_group = plan.steps.size();
  for (std::size_t i = 0; i < plan.steps.size(); ++i) {
    if (plan.steps[i].is<step::GrowPartition>()) last_table = i;
    if (plan.steps[i].is<step::GrowVolume>()) first_group = std::min(first_group, i);
  }
  EXPECT_LT(last_table, first_group);
  int commits = 0;
  plan.for_each<step::CommitGroup>([&](const Step&, const step::CommitGroup&) { ++commits; });
  EXPECT_EQ(commits, 2);
  // The first one's partition is not the last: it gets nothing of the new room.
  EXPECT_FALSE(plan.has<step::GrowPhysicalVolume>(LayerId(0, {}, {1})));
  request_.gives = {parse_give("first/pieces=40MiB"), parse_give("/")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_THAT(words_, HasSubstr("10 extents of 4 MiB, and there are 9"));
  EXPECT_THAT(words_, HasSubstr("--allow-move"));
}

// What makes room moves as little as it must: nothing, one, or all behind the target.
TEST_F(Plans, AsFewMoveAsWillDo) {
  open("swap-behind", 100ULL << 20);
  request_.allow_move = true;
  const auto moved = [&](std::vector<Give> gives) {
    request_.gives = std::move(gives);
    std::map<std::uint32_t, std::uint64_t> found;
    const Plan plan = plan_growth(*guest_, request_);
    plan.for_each<step::MovePartition>([&](const Step& step, const step::MovePartition& work) {
      found[step.layer.number()] = work.first.value() / 2048;
    });
    return found;
  };
  using Moved = std::map<std::uint32_t, std::uint64_t>;
  EXPECT_EQ(moved({parse_give("p4")}), (Moved{}));
  EXPECT_EQ(moved({parse_give("swap=1MiB")}), (Moved{{4, 195}}));
  EXPECT_EQ(moved({parse_give("/=1MiB")}), (Moved{{3, 171}, {4, 195}}));
  EXPECT_EQ(moved({parse_give("/")}), (Moved{{3, 171}, {4, 195}}));
  // Whatever is asked for, nothing overlaps and nothing goes to the front.
  for (std::uint64_t a = 1; a < 60; a += 7)
    for (std::uint64_t b = 1; b < 40; b += 5) {
      const auto found = moved({parse_give(fmt::format("/={}MiB", a)),
                                parse_give(fmt::format("swap={}MiB", b)), parse_give("p4")});
      const std::uint64_t swap = found.contains(3) ? found.at(3) : 66;
      const std::uint64_t rescue = found.contains(4) ? found.at(4) : 90;
      EXPECT_GE(swap, 66 + a);
      EXPECT_GE(rescue, swap + 24 + b);
      EXPECT_LE(rescue + 16, 211U);
    }
  request_.gives = {parse_give("/"), parse_give("swap")};
  EXPECT_EQ(refused(), Status::usage);
}

// Partitions that cannot move divide the disk; room on the other side is none.
TEST_F(Plans, WhatStaysIsAWall) {
  open("swap-behind", 100ULL << 20);
  disk_->write(90ULL << 20, Buffer(8192, 'q'));  // nobody knows what this is
  guest_ = std::make_unique<Guest>(std::vector<Guest::Image>{{"guest.img", disk_.get()}});
  request_.allow_move = true;
  request_.gives = {parse_give("/")};
  EXPECT_EQ(refused(), Status::refused);
  EXPECT_THAT(words_, HasSubstr("p4 (unknown content) stands behind it, and does not move"));
  EXPECT_FALSE(could_grow_by_moves(*guest_, *find_target(*guest_, "/"), 1_GiB));
}

}  // namespace
}  // namespace jh::test
