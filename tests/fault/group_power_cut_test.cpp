// The power is cut at every operation of a change of a volume group over two disks, with and
// without a third one that the change adds: never half.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "core/change/carry_out.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/plan/grow.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/ext_tools.h"
#include "support/failed_disk.h"
#include "support/same_guest.h"
#include "support/samples.h"

namespace jh::test {
namespace {

const std::string path_a = "/moor/a.img";
const std::string path_b = "/moor/b.img";
const std::string path_c = "/moor/c.img";

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
    NullProgress silent;
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
    NullProgress silent;
    ext::audit(*ext_in(root->content), {}, findings, silent);
    return findings.clean();
  }

  TempFolder folder_;
  std::unique_ptr<MemoryStore> old_a_;
  std::unique_ptr<MemoryStore> old_b_;
  GrowRequest request_;
};

TEST_P(GroupPowerCut, IsAllOldOrAllNew) {
  FaultHost whole;
  prepare(whole);
  whole.cut_at(0, Unflushed::kept);
  grow(whole);
  ASSERT_TRUE(is_new(whole));
  const std::uint64_t operations = whole.operations();
  std::mt19937 random(11);
  std::uint64_t seen_old = 0;
  std::uint64_t seen_new = 0;
  for (std::uint64_t n = 1; n <= operations; ++n) {
    const auto mode = static_cast<Unflushed>(n % 4);
    FaultHost host;
    prepare(host);
    host.cut_at(n, mode);
    ASSERT_THROW(grow(host), jh::PowerCut);
    host.restart(random);
    recover(host, n % 2 == 0 ? path_a : path_b);
    recover(host, path_a);
    if (is_old(host)) {
      ++seen_old;
      continue;
    }
    ++seen_new;
    ASSERT_TRUE(is_new(host)) << fmt::format("operation {} of {}, mode {}", n, operations, n % 4);
    if (n % 4 != 0) continue;
    undo(host, path_b);
    EXPECT_TRUE(is_identical(host));
    EXPECT_FALSE(host.exists(path_c));
  }
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
  begun.cut_at(0, Unflushed::kept);
  grow(begun);
  const std::uint64_t operations = begun.operations();
  std::mt19937 random(13);
  for (std::uint64_t n = 1; n <= operations; ++n) {
    SCOPED_TRACE(n);
    FaultHost host;
    put(host, state);
    host.cut_at(n, static_cast<Unflushed>(n % 4));
    ASSERT_THROW(grow(host), jh::PowerCut);
    host.restart(random);
    recover(host, path_a);
    EXPECT_NO_THROW(grow(host));
    EXPECT_NO_THROW(undo(host, path_b));
    const std::vector<std::string> images{path_a, path_b};
    EXPECT_EQ(host.names(), images);
  }
}

TEST_P(GroupPowerCut, SoIsItsUndo) {
  FaultHost whole;
  prepare(whole);
  grow(whole);
  std::map<std::string, std::unique_ptr<MemoryStore>> state;
  for (const std::string& name : whole.names())
    state[name] = std::make_unique<MemoryStore>(whole.content(name), name);
  const auto again = [&](FaultHost& host) {
    for (const auto& [name, content] : state) host.put(name, *content);
  };
  FaultHost counted;
  again(counted);
  counted.cut_at(0, Unflushed::kept);
  undo(counted, path_a);
  ASSERT_TRUE(is_identical(counted));
  std::mt19937 random(12);
  for (std::uint64_t n = 1; n <= counted.operations(); ++n) {
    FaultHost host;
    again(host);
    host.cut_at(n, static_cast<Unflushed>(n % 4));
    ASSERT_THROW(undo(host, path_a), jh::PowerCut);
    host.restart(random);
    recover(host, path_a);
    const bool back = is_identical(host) && !host.exists(path_c);
    ASSERT_TRUE(back || is_new(host)) << "operation " << n;
  }
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
