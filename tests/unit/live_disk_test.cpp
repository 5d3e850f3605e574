// Live, attacked: disks that are taken, what lies over a mount, and disks that stop nobody.
#include "core/live/new_disk.h"
#include "support/live_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

class NewDiskOfASystem : public testing::Test {
 protected:
  NewDiskOfASystem() : kernel_(system_with_volumes()) {
    kernel_.add_disk("vdb", MemoryStore(256 * mib));
    request_ = give({"/home"});
    request_.add_disks.emplace_back("/dev/vdb", Bytes(0));
  }

  // The run ends behind so many calls; its notes are left.
  void cut(std::uint64_t calls) {
    kernel_.trouble.dies_after = calls;
    try {
      change(kernel_, request_, notes_.path());
      FAIL() << "it was to end";
    } catch (const Died&) {
      kernel_.trouble = {};
    }
  }
  void expect_refused(const std::string& words) {
    const std::uint64_t before = kernel_.calls;
    expect_error(Status::refused, words, [&] { change(kernel_, request_, notes_.path()); });
    EXPECT_EQ(kernel_.calls, before) << "something was changed";
  }

  MemoryKernel kernel_;
  GrowRequest request_;
  TempFolder notes_;
};

// Somebody puts a filesystem on the disk between a run that was killed and the next: it stays.
TEST_F(NewDiskOfASystem, WhatSomebodyHasPutThereSinceIsKept) {
  make_ext(notes_ / "theirs.img", 64 * mib, {});
  MemoryStore theirs = load(notes_ / "theirs.img");
  for (const std::uint64_t at : {std::uint64_t{0}, mib, 100 * mib}) {
    SCOPED_TRACE(at);
    MemoryKernel fresh(kernel_);
    cut(1);
    auto& disk = kernel_.bytes_.at("vdb");
    for (std::uint64_t i = 0; i < theirs.size(); i += mib)
      disk.write(at + i, read_buffer(theirs, i, mib));
    expect_refused("somebody has written to it since");
    kernel_ = fresh;
    files::remove(notes_ / ("live-" + std::string(live::disk_note)));
  }
}

// Another disk of the same name and size, and a note that is still there.
TEST_F(NewDiskOfASystem, ANoteIsOfOneDisk) {
  cut(1);
  kernel_.disks_[1].identity = "another";
  // What the run has begun there is somebody's, as far as anybody knows.
  expect_refused("not empty");
}

TEST_F(NewDiskOfASystem, EveryByteOfItIsLookedAt) {
  const Buffer byte{1};
  for (const std::uint64_t at : {17 * mib, 101 * mib + 4095, 203 * mib + 511}) {
    MemoryKernel other(kernel_);
    kernel_.bytes_.at("vdb").write(at, byte);
    expect_refused("not empty");
    kernel_ = other;
  }
}

TEST_F(NewDiskOfASystem, WhoHasItKeepsIt) {
  kernel_.held_by_others = {"/dev/vdb"};
  expect_refused("in use");
  kernel_.held_by_others.clear();
  kernel_.disks_[1].holders = {"loop3"};
  expect_refused("in use by loop3");
}

// Whatever the call behind which a run is cut off: the next one finishes it.
TEST_F(NewDiskOfASystem, ACutIsFinishedByTheNextRun) {
  const MemoryKernel fresh(kernel_);
  MemoryKernel whole(fresh);
  {
    const TempFolder other;
    change(whole, request_, other.path());
  }
  for (std::uint64_t calls = 1; calls < whole.calls; ++calls) {
    SCOPED_TRACE(calls);
    kernel_ = fresh;
    cut(calls);
    try {
      change(kernel_, request_, notes_.path());
    } catch (const Error& error) {
      EXPECT_EQ(error.reason(), Reason::no_room) << error.what();
    }
    EXPECT_EQ(kernel_.sizes_["/home"].size, whole.sizes_["/home"].size);
    EXPECT_EQ(Notes(notes_.path()).get(live::disk_note), std::nullopt);
  }
}

TEST(NewDisk, IsKeptInANote) {
  live::KernelDisk disk;
  disk.path = "/dev/a disk";
  disk.size = 64 * mib;
  disk.identity = "serial 1  of the moor";
  const live::NewDisk made = live::make_new_disk(
      disk, TableKind::gpt, 512, {1, PartitionRole::primary, Sectors(2048), Sectors(129024)});
  const auto read = live::parse_new_disks(live::new_disks_text({made, made}));
  ASSERT_EQ(read.size(), 2U);
  EXPECT_TRUE(read[1].is(disk));
  EXPECT_EQ(read[1].table, made.table);
  EXPECT_EQ(read[1].whole, made.whole);
  EXPECT_EQ(read[1].partition, mib);
  // One that was cut off says nothing.
  const std::string text = live::new_disks_text({made});
  EXPECT_TRUE(live::parse_new_disks(text.substr(0, text.size() / 2)).empty());
}

// ---- What lies over a mount.

TEST(LiveMounts, AFilesystemUnderAnotherIsNamed) {
  MemoryKernel kernel = system_with_volumes();
  for (live::Mount& mount : kernel.mounts_)
    if (mount.point == "/home") mount.hidden = true;
  const TempFolder notes;
  expect_error(Status::refused, "mounted over it at /home",
               [&] { change(kernel, give({"/home"}), notes.path()); });
  EXPECT_EQ(kernel.calls, 0U);
  // By another of its points it is reached.
  for (const live::Mount& mount : std::vector<live::Mount>(kernel.mounts_))
    if (mount.point == "/home") kernel.mount(mount.source, "/mnt/home", mount.kind);
  const std::uint64_t before = kernel.sizes_["/mnt/home"].size;
  change(kernel, give({"field-station/home"}), notes.path());
  EXPECT_GT(kernel.sizes_["/mnt/home"].size, before);
  EXPECT_EQ(kernel.sizes_["/home"].size, before);
}

// ---- One bad disk stops nobody.

TEST(LiveDisks, OneThatCannotBeReadIsLeftOut) {
  for (const bool readable : {true, false}) {
    MemoryKernel kernel = plain_system();
    kernel.add_disk("nvme0c0n1", MemoryStore(64 * mib));
    if (readable)
      kernel.disks_[1].trouble = "it is one of several paths to a disk";
    else
      kernel.unreadable = {"/dev/nvme0c0n1"};
    const RunningSystem system(kernel, {});
    ASSERT_EQ(system.left_out().size(), 1U);
    EXPECT_EQ(system.left_out()[0].where(), "/dev/nvme0c0n1");
    const TempFolder notes;
    change(kernel, give({"/"}), notes.path());
    // Whoever names it hears why.
    EXPECT_THROW(RunningSystem(kernel, {"/dev/nvme0c0n1"}), Error);
  }
}

// ---- Goals are of layers, not of words.

TEST(LiveGoals, TheSameWordsOnAnotherDiskAreAnotherGoal) {
  MemoryKernel kernel = plain_system();
  const TempFolder notes;
  kernel.trouble.dies_after = 2;
  EXPECT_THROW(change(kernel, give({"p1=64MiB"}), notes.path()), Died);
  kernel.trouble = {};
  ASSERT_TRUE(Notes(notes.path()).get(live::goal_note));
  // The machine has another disk by now, which is as large as the first was to become.
  MemoryKernel other = plain_system();
  auto& disk = other.bytes_.at("vda");
  const std::uint64_t partition = other.disks_[0].partitions[0].start;
  const Buffer uuid(16, 0x55);
  disk.write(partition + 1024 + 104, uuid);
  const Buffer signature(4, 0x66);
  disk.write(440, signature);
  const std::uint64_t before = other.sizes_["/"].size;
  change(other, give({"p1=64MiB"}), notes.path());
  EXPECT_GE(other.sizes_["/"].size, before + 60 * mib);
}

}  // namespace
}  // namespace jh::test
