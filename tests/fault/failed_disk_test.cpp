// The host's disk fails, once or for good, at every operation of a growth, of its undo, and of a
// recast: no Error promises more than is true, and each says what to run where something is left.
#include "support/failed_disk.h"

#include "core/change/carry_out.h"
#include "core/change/recast.h"
#include "core/plan/grow.h"
#include "support/changes.h"
#include "support/test.h"

namespace jh::test {
namespace {

void grow_to_400(FaultHost& host) {
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get()}});
  GrowRequest request;
  request.images = {first_image};
  request.to = parse_size("400MiB");
  const Plan plan = plan_growth(guest, request);
  carry_out(host, guest, plan, request, silent);
}

class FailedDisk : public testing::Test {
 protected:
  void SetUp() override {
    const TempFolder folder;
    unpack_sample("nestcam", folder / "guest.img");
    old_.emplace(first_image, load(folder / "guest.img"));
    FaultHost host;
    host.put(first_image, old_.at(first_image));
    grow_to_400(host);
    for (const std::string& name : host.names())
      grown_.emplace(name, MemoryStore(host.content(name), name));
    ASSERT_EQ(grown_.size(), 2U);
  }
  void expect_old_or_new(const FaultHost& host) const {
    EXPECT_TRUE(host.content(first_image).same_content(old_.at(first_image)) ||
                host.content(first_image).same_content(grown_.at(first_image)));
  }

  Contents old_;
  Contents grown_;  // with the ledger
};

TEST_F(FailedDisk, WhileGrowing) {
  const SaidLeft said = fail_everywhere(old_, first_image, stride_of(13), grow_to_400,
                                        [&](const FaultHost& host) { expect_old_or_new(host); });
  EXPECT_GT(said.unchanged, 0U);
  EXPECT_GT(said.unfinished, 0U);
  EXPECT_EQ(said.sound, 0U);
}

TEST_F(FailedDisk, WhileUndoing) {
  const SaidLeft said = fail_everywhere(
      grown_, first_image, stride_of(13), [](FaultHost& host) { undo(host, first_image); },
      [&](const FaultHost& host) { expect_old_or_new(host); });
  EXPECT_GT(said.unfinished, 0U);
  EXPECT_EQ(said.sound, 0U);
}

TEST_F(FailedDisk, WhileRecasting) {
  for (const auto& [format, sharing] :
       {std::pair(ImageFormat::qcow2, Sharing::never), std::pair(ImageFormat::vhdx, Sharing::never),
        std::pair(ImageFormat::qcow2, Sharing::automatic),
        std::pair(ImageFormat::vhd, Sharing::automatic)}) {
    const SaidLeft said = fail_everywhere(
        old_, first_image, stride_of(13) * 5,
        [&](FaultHost& host) {
          const auto file = host.open(first_image, Access::read_only);
          const auto from = open_container(*file);
          RecastRequest request;
          request.image = first_image;
          request.out = "/moor/new";
          request.format = format;
          request.sharing = sharing;
          const RecastPlan plan = plan_recast(host, *from, request);
          const Transferred done = carry_out_recast(host, *from, plan, request, silent);
          EXPECT_EQ(done.shared != 0, sharing == Sharing::automatic);
        },
        [](FaultHost& host) {
          // Where even removing fails, the Error says what to remove.
          if (host.exists("/moor/new")) host.remove("/moor/new");
        });
    EXPECT_GT(said.unchanged, 0U);
    EXPECT_EQ(said.unfinished, 0U);
  }
}

}  // namespace
}  // namespace jh::test
