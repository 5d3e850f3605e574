// What the system writes of itself, as it is read.
#include "core/live/linux_kernel.h"
#include "support/test.h"

namespace jh::test {
namespace {

TEST(LinuxFacts, TheFolderOfLocksIsReadFromTheConfiguration) {
  EXPECT_EQ(live::folder_of_locks(""), "/run/lock/lvm");
  EXPECT_EQ(live::folder_of_locks("global {\n\t# locking_dir = \"/nowhere\"\n}\n"),
            "/run/lock/lvm");
  EXPECT_EQ(live::folder_of_locks("global {\n\tlocking_dir = \"/var/lock/lvm\"\n}\n"),
            "/var/lock/lvm");
  EXPECT_EQ(live::folder_of_locks("global { locking_dir=\"/a\" }\nglobal/locking_dir = \"/b\"\n"),
            "/b");
  EXPECT_EQ(live::folder_of_locks("other_locking_dir = \"/a\"\nlocking_dir_x = \"/b\"\n"),
            "/run/lock/lvm");
  EXPECT_EQ(live::folder_of_locks("locking_dir = \"\"\nlocking_dir = \"/cut"), "/run/lock/lvm");
}

TEST(LinuxFacts, MountsAndSwapsAreRead) {
  const auto mounts = live::parse_mounts(
      "22 1 253:1 / / rw,relatime shared:1 - ext4 /dev/vda1 rw\n"
      "23 22 0:5 / /proc rw - proc proc rw\n"
      "24 22 253:2 / /srv/two\\040words ro,noatime - xfs /dev/vda2 rw\n"
      "25 22 253:1 /home /bound rw - ext4 /dev/vda1 rw\n"
      "26 22 0:41 /@ /moss rw shared:3 master:1 - btrfs /dev/vdb rw,subvol=/@\n"
      "nonsense\n");
  ASSERT_EQ(mounts.size(), 3U);
  EXPECT_EQ(mounts[0].point, "/");
  EXPECT_EQ(mounts[0].device, (live::DeviceNumber{253, 1}));
  EXPECT_EQ(mounts[1].point, "/srv/two words");
  EXPECT_TRUE(mounts[1].read_only);
  EXPECT_EQ(mounts[2].kind, "btrfs");
  EXPECT_EQ(mounts[2].source, "/dev/vdb");
  const auto swaps = live::parse_swaps(
      "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n"
      "/dev/dm-1                               partition\t40956\t\t12\t\t-2\n"
      "/swapfile                               file\t\t2048\t\t0\t\t-3\n");
  ASSERT_EQ(swaps.size(), 1U);
  EXPECT_EQ(swaps[0].path, "/dev/dm-1");
  EXPECT_EQ(swaps[0].used, 12288U);
  EXPECT_EQ(swaps[0].priority, -2);
}

// Whoever writes to a frozen filesystem waits, and cannot be ended: another process finds that out.
TEST(LinuxKernel, AFrozenFilesystemIsRefused) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const TempFolder folder;
  const std::string image = make_ext(folder / "place.img", 32U << 20, {});
  const Mounted mounted(image, 0, 0, /*writable=*/true);
  live::LinuxKernel kernel;
  live::Mount mount;
  mount.point = mounted.path();
  kernel.check_takes_writes(mount);
  ASSERT_EQ(run({"fsfreeze", "-f", mount.point}).status, 0);
  expect_error(Status::refused, "frozen", [&] { kernel.check_takes_writes(mount); });
  ASSERT_EQ(run({"fsfreeze", "-u", mount.point}).status, 0);
  kernel.check_takes_writes(mount);
}

}  // namespace
}  // namespace jh::test
