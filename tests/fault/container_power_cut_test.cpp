// The power goes at every single operation of the growth of an image, in every form: afterwards its
// files are byte for byte the old ones, or they are a sound image of the new size with all that was
// in it.
#include "core/change/carry_out.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/read.h"
#include "core/plan/grow.h"
#include "core/store/first_page_guard.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/ext_tools.h"
#include "support/fault_images.h"
#include "support/guest_writes.h"
#include "support/qcow2_snapshots.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t new_size = 20U << 20;

// A small filesystem on a whole disk.
const MemoryStore& small_disk() {
  static const MemoryStore disk = [] {
    const TempFolder folder;
    const std::string path =
        make_ext(folder / "small.img", 12U << 20, {"-b", "1024", "-N", "128"}, /*filled=*/false);
    return load(path);
  }();
  return disk;
}

void grow(FaultHost& host) {
  HostFileResolver resolver(host);
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get(), false, &resolver}});
  GrowRequest request;
  request.images = {first_image};
  request.to = Bytes(new_size);
  const Plan plan = plan_growth(guest, request);
  carry_out(host, guest, plan, request, silent);
}

class ContainerPowerCut : public FaultImages {
 protected:
  void SetUp() override { keep(small_disk()); }
  static bool is_new(FaultHost& host) {
    HostFileResolver resolver(host);
    const auto file = host.open(first_image, Access::read_only);
    const auto container = open_container(*file, &resolver);
    if (container->disk().size() != new_size) return false;
    const Findings findings = audit_ext_in(*container);
    EXPECT_TRUE(findings.clean()) << words_of(findings);
    const ext::Filesystem fs(container->disk());
    return findings.clean() && fs.geometry().blocks * fs.geometry().block_size == new_size;
  }
};

TEST_P(ContainerPowerCut, OldOrNew) {
  PowerCuts cuts(prepared(), grow);
  ASSERT_TRUE(is_new(cuts.whole()));
  undo(cuts.whole(), first_image);
  ASSERT_TRUE(is_identical(cuts.whole()));
  std::uint64_t kept_old = 0;
  std::uint64_t became_new = 0;
  std::vector<std::uint64_t> points;
  for (std::uint64_t n = 1; n <= cuts.operations(); n += stride_of(3)) points.push_back(n);
  // Identities are random: the last operations may not come to it.
  cuts.everywhere({.fates = all_fates, .may_end = true, .points = points},
                  [&](FaultHost& host, std::uint64_t) {
                    recover(host, first_image);
                    const bool old = is_old(host);
                    EXPECT_TRUE(old || is_new(host));
                    ++(old ? kept_old : became_new);
                  });
  EXPECT_GT(kept_old, 0U);
  EXPECT_GT(became_new, 0U);
  fmt::print("  {} operations; {} times old, {} times new\n", cuts.operations(), kept_old,
             became_new);
}

INSTANTIATE_TEST_SUITE_P(Forms, ContainerPowerCut, testing::ValuesIn(kinds()), by_name);

// With two snapshots inside, one of them without its disk's size, and writes after them: whenever
// the power goes, both read as before and every cluster is counted.
class SnapshotPowerCut : public ContainerPowerCut {
 protected:
  void SetUp() override {
    ContainerPowerCut::SetUp();
    auto& image = old_.at(first_image);
    save(image, file_);
    make_snapshot(file_, "one", 65536, /*with_size=*/false);
    FileHost host(folder_ / "ledgers");
    ASSERT_TRUE(guest_writes_files(host, {file_}, "june", 300'000));
    make_snapshot(file_, "two");
    ASSERT_TRUE(guest_writes_files(host, {file_}, "july", 200'000));
    snapshots_ = read_snapshots(file_);
    ASSERT_EQ(snapshots_.size(), 2U);
    old_.clear();
    old_.emplace(first_image, MemoryStore(load(file_), first_image));
  }
  void expect_snapshots(FaultHost& host) {
    files::remove(file_);
    save(*host.open(first_image, Access::read_write), file_);
    const auto now = read_snapshots(file_);
    ASSERT_EQ(now.size(), snapshots_.size());
    for (std::size_t i = 0; i < now.size(); ++i) {
      EXPECT_EQ(now[i].disk, snapshots_[i].disk);
      EXPECT_EQ(now[i].state, snapshots_[i].state);
    }
  }

  const TempFolder folder_;
  const std::string file_ = folder_ / "image.qcow2";
  std::vector<SnapshotSeen> snapshots_;
};

TEST_P(SnapshotPowerCut, KeepsEverySnapshot) {
  PowerCuts cuts(prepared(), grow);
  expect_snapshots(cuts.whole());
  EXPECT_EQ(check_counts(file_), "");
  std::uint64_t became_new = 0;
  cuts.everywhere({.may_end = true, .points = points_of(cuts.operations(), 5, 12)},
                  [&](FaultHost& host, std::uint64_t) {
                    recover(host, first_image);
                    if (!is_old(host)) {
                      ASSERT_TRUE(is_new(host));
                      ++became_new;
                    }
                    expect_snapshots(host);
                  });
  EXPECT_GT(became_new, 0U);
}

// Before anything of the change is sealed or closed the image can be opened: a snapshot that was
// made, or gone back to, between the cut and recover is as it was made.
TEST_P(SnapshotPowerCut, WhatWasDoneBetweenTheCutAndRecoverStays) {
  const PowerCuts cuts(prepared(), grow);
  int moved_on = 0;
  for (const bool made : {true, false}) {
    SCOPED_TRACE(made);
    cuts.everywhere({.fates = {Unflushed::kept}, .may_end = true},
                    [&](FaultHost& host, std::uint64_t) {
                      // Nobody opens one that is in the middle of its seal.
                      if (has_closed_first_page(*host.open(first_image, Access::read_only))) return;
                      files::remove(file_);
                      save(*host.open(first_image, Access::read_write), file_);
                      made ? make_snapshot(file_, "three") : revert_to(file_, 0);
                      const auto snapshots = read_snapshots(file_);
                      const auto audited = check_counts(file_);
                      host.overwrite(first_image, MemoryStore(load(file_), first_image));
                      try {
                        recover(host, first_image);
                      } catch (const Error& error) {
                        EXPECT_EQ(error.status(), Status::refused) << error.what();
                      }
                      files::remove(file_);
                      save(*host.open(first_image, Access::read_write), file_);
                      EXPECT_TRUE(read_snapshots(file_) == snapshots);
                      EXPECT_EQ(check_counts(file_), audited);
                      ++moved_on;
                    });
  }
  EXPECT_GT(moved_on, 4);
}

INSTANTIATE_TEST_SUITE_P(Forms, SnapshotPowerCut,
                         testing::Values(Kind{"Qcow2", ImageFormat::qcow2, Allocation::sparse}),
                         by_name);

}  // namespace
}  // namespace jh::test
