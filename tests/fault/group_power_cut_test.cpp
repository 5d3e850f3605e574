// The power is cut at every operation of a change of a volume group over two disks, with and
// without a third one that the change adds: never half.
#include "core/change/carry_out.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/plan/grow.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/ext_tools.h"
#include "support/failed_disk.h"
#include "support/power_cuts.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

const std::string path_a = "/moor/a.img";
const std::string path_b = "/moor/b.img";
const std::string path_c = "/moor/c.img";

const PowerCuts::How fates_in_turn{all_fates, /*in_turn=*/true};

class GroupPowerCut : public testing::TestWithParam<bool> {
 protected:
  GroupPowerCut() {
    unpack_sample("two-disk-a", folder_ / "a");
    unpack_sample("two-disk-b", folder_ / "b");
    old_a_ = std::make_unique<MemoryStore>(load(folder_ / "a"));
    old_b_ = std::make_unique<MemoryStore>(load(folder_ / "b"));
    request_.images = {path_a, path_b};
    request_.gives = {parse_give("/scratch=16MiB"), parse_give("/=rest")};
    if (GetParam()) {
      request_.gives = {parse_give("/=rest")};
      request_.add_disks = {{path_c, 64_MiB}};
    } else {
      request_.disk = 0;
      request_.disk_chosen = true;
      request_.by = 96_MiB;
    }
  }

  void prepare(FaultHost& host) const {
    host.put(path_a, *old_a_);
    host.put(path_b, *old_b_);
  }

  void grow(FaultHost& host) const {
    const auto a = host.open(path_a, Access::read_only);
    const auto b = host.open(path_b, Access::read_only);
    MemoryStore blank((64_MiB).value(), path_c);
    std::vector<Guest::Image> images{{path_a, a.get(), false}, {path_b, b.get(), false}};
    if (GetParam()) images.push_back({path_c, &blank, true});
    const Guest guest(images);
    carry_out(host, guest, plan_growth(guest, request_), request_, silent);
  }

  bool is_identical(const FaultHost& host) const {
    return host.content(path_a).same_content(*old_a_) && host.content(path_b).same_content(*old_b_);
  }
  bool is_old(FaultHost& host) const {
    if (is_identical(host)) return true;
    FaultHost before;
    prepare(before);
    return same_for_the_guest(before, host, path_a, {path_b});
  }

  // All copies of the metadata agree on the next number, and the grown filesystem is sound.
  bool is_new(FaultHost& host) const {
    std::vector<std::unique_ptr<Store>> stores;
    std::vector<Guest::Image> images;
    for (const std::string& path : {path_a, path_b, path_c}) {
      if (!host.exists(path)) continue;
      stores.push_back(host.open(path, Access::read_only));
      images.push_back({path, stores.back().get(), false});
    }
    const Guest guest(images);
    if (guest.groups().size() != 1) return false;
    const lvm::OpenGroup& open = guest.groups()[0].open;
    if (open.group.sequence != 4 || !open.notes.empty() || !open.blockers().empty()) return false;
    if (open.group.free_extents() != 0) return false;
    const Layer* root = find_target(guest, "/");
    if (root->content.size != root->size) return false;
    Findings findings;
    ext::audit(*ext_in(root->content), {}, findings, silent);
    return findings.clean();
  }

  TempFolder folder_;
  std::unique_ptr<MemoryStore> old_a_;
  std::unique_ptr<MemoryStore> old_b_;
  GrowRequest request_;
};

TEST_P(GroupPowerCut, IsAllOldOrAllNew) {
  PowerCuts cuts([&](FaultHost& host) { prepare(host); }, [&](FaultHost& host) { grow(host); });
  ASSERT_TRUE(is_new(cuts.whole()));
  std::uint64_t seen_old = 0;
  std::uint64_t seen_new = 0;
  cuts.everywhere(fates_in_turn, [&](FaultHost& host, std::uint64_t n) {
    recover(host, n % 2 == 0 ? path_a : path_b);
    recover(host, path_a);
    const bool old = is_old(host);
    ++(old ? seen_old : seen_new);
    if (old) return;
    ASSERT_TRUE(is_new(host));
    if (n % 4 != 0) return;
    undo(host, path_b);
    EXPECT_TRUE(is_identical(host));
    EXPECT_FALSE(host.exists(path_c));
  });
  EXPECT_GT(seen_old, 0U);
  EXPECT_GT(seen_new, 0U);
}

// There is the ledger of a finished change, another change is cut off, and after recover a third
// one comes.
TEST_P(GroupPowerCut, LeavesNothingInTheWayOfTheNextChange) {
  if (GetParam()) GTEST_SKIP() << "a disk is added once";
  request_.gives = {parse_give("/=rest")};
  request_.by = 16_MiB;
  FaultHost begun;
  prepare(begun);
  grow(begun);
  const Contents state = contents_of(begun, true);
  const PowerCuts cuts([&](FaultHost& host) { put(host, state); },
                       [&](FaultHost& host) { grow(host); });
  cuts.everywhere(fates_in_turn, [&](FaultHost& host, std::uint64_t) {
    recover(host, path_a);
    EXPECT_NO_THROW(grow(host));
    EXPECT_NO_THROW(undo(host, path_b));
    EXPECT_EQ(host.names(), (Words{path_a, path_b}));
  });
}

TEST_P(GroupPowerCut, SoIsItsUndo) {
  FaultHost grown;
  prepare(grown);
  grow(grown);
  const Contents state = contents_of(grown, true);
  PowerCuts cuts([&](FaultHost& host) { put(host, state); },
                 [](FaultHost& host) { undo(host, path_a); });
  ASSERT_TRUE(is_identical(cuts.whole()));
  cuts.everywhere(fates_in_turn, [&](FaultHost& host, std::uint64_t) {
    recover(host, path_a);
    const bool back = is_identical(host) && !host.exists(path_c);
    EXPECT_TRUE(back || is_new(host));
  });
}

TEST_P(GroupPowerCut, AFailedDiskLeavesWhatTheErrorSays) {
  Contents old;
  old.emplace(path_a, MemoryStore(*old_a_, path_a));
  old.emplace(path_b, MemoryStore(*old_b_, path_b));
  const SaidLeft said = fail_everywhere(
      old, path_a, 1, [&](FaultHost& host) { grow(host); },
      [&](FaultHost& host) { EXPECT_TRUE(is_old(host) || is_new(host)); });
  EXPECT_GT(said.unchanged, 0U);
  EXPECT_GT(said.unfinished, 0U);
}

INSTANTIATE_TEST_SUITE_P(Disks, GroupPowerCut, testing::Bool(), [](const auto& kind) {
  return std::string(kind.param ? "AddedDisk" : "TwoDisks");
});

}  // namespace
}  // namespace jh::test
