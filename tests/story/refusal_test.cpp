// Every check before a change, through the built program: message, exit status, no byte changed, no
// ledger left.
#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "core/carry/checks.h"
#include "support/test.h"

namespace jh::test {
namespace {

class Refusal : public testing::Test {
 protected:
  void SetUp() override { unpack_sample("heather", image_); }

  Words grow() const { return {"grow", image_, "--by", "100MiB"}; }

  TempFolder folder_;
  std::string image_ = folder_ / "guest.img";
};

TEST_F(Refusal, OpenInAnotherProcess) {
  const int fd = ::open(image_.c_str(), O_RDWR);
  expect_status(3, grow(), {"is open in process"});
  ::close(fd);
}

// What an audit finds in an image that somebody writes to says nothing of the image.
TEST_F(Refusal, DamageThatAWriterMayBeInTheMiddleOf) {
  poke(image_, 1048576 + 4096, std::string(64, '\xee'));
  expect_status(4, {"audit", image_}, {""});
  const int fd = ::open(image_.c_str(), O_RDWR);
  expect_status(3, {"audit", image_}, {"is open in process"});
  ::close(fd);
  const auto look = [&](bool while_written) {
    return look_unlocked({image_}, [&]() -> int {
      if (while_written) poke(image_, 600, "x");
      damaged("it does not fit together", image_);
    });
  };
  const auto status_of = [&](bool while_written) {
    try {
      look(while_written);
    } catch (const Error& error) {
      return error.status();
    }
    return Status::done;
  };
  EXPECT_EQ(status_of(false), Status::damaged);
  EXPECT_EQ(status_of(true), Status::refused);
}

TEST_F(Refusal, LockedByAnotherProcess) {
  // The descriptor check sees it first; a lock seen through a network filesystem has no process
  // here, so the lock itself is tried on a second name of the file.
  const int fd = ::open(image_.c_str(), O_RDWR);
  struct flock range {};
  range.l_type = F_RDLCK;
  range.l_whence = SEEK_SET;
  range.l_start = 100;
  range.l_len = 1;
  ASSERT_EQ(::fcntl(fd, F_OFD_SETLK, &range), 0);
  expect_status(3, grow(), {"process"});
  ::close(fd);
}

TEST_F(Refusal, AttachedOrMounted) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const Mounted mounted(image_, 1048576);
  expect_status(3, grow(), {"mounted at " + mounted.path()});
}

TEST_F(Refusal, MarkedReadOnly) {
  ::chmod(image_.c_str(), 0444);
  expect_status(3, grow(), {"marked read-only"});
  ::chmod(image_.c_str(), 0644);
}

TEST_F(Refusal, NoRegularFileNorBlockDevice) {
  expect_status(3, {"grow", folder_.path().string(), "--by", "1GiB"}, {"is a directory"});
  expect_status(3, {"grow", "/dev/null", "--by", "1GiB"},
                {"neither a regular file nor a block device"});
  expect_status(3, {"grow", folder_ / "missing.img", "--by", "1GiB"}, {"No such file"});
}

TEST_F(Refusal, MarkedAsHavingErrors) {
  const TempFolder other;
  const std::string plain = make_ext(other / "plain.img", 32ULL << 20, {"-O", "^metadata_csum"});
  poke(plain, 1024 + 0x3A, std::string("\x02", 1));
  expect_status(3, {"grow", plain, "--by", "100MiB"}, {"having errors"});
}

TEST_F(Refusal, AnInterruptedChangeIsPresent) {
  write_file(folder_ / "count", "");
  // Stopped somewhere in the middle, with the ledger begun.
  const ProgramResult stopped = juneheath(grow(), {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                                                   {"JUNEHEATH_STOP_AT", "8"},
                                                   {"ASAN_OPTIONS", "verify_asan_link_order=0"}});
  ASSERT_EQ(stopped.status, 99) << stopped.err;
  ASSERT_TRUE(files::exists(image_ + ".juneheath.open"));
  expect_status(3, grow(), {"juneheath recover"});
  expect_status(3, {"undo", image_}, {"juneheath recover"});
  expect_status(0, {"recover", image_});
  EXPECT_FALSE(files::exists(image_ + ".juneheath.open"));
}

TEST_F(Refusal, LessThanThereIs) {
  expect_status(3, {"grow", image_, "--to", "100MiB"}, {"juneheath survey"});
}

TEST_F(Refusal, NoRoomAndNothingAskedFor) { expect_status(3, {"grow", image_}, {"nothing to do"}); }

TEST_F(Refusal, UnknownTargetListsWhatThereIs) {
  expect_status(3, {"grow", image_, "--by", "1GiB", "--give", "/var"}, {"label:ringing"});
}

TEST_F(Refusal, WrongUsage) {
  expect_status(2, {"grow", image_, "--by", "1GiB", "--to", "2GiB"}, {"exclude each other"});
  expect_status(2, {"grow", image_, "--by", "1Gib"}, {"not a size"});
  expect_status(2, {"grow", image_, "--by", "0"}, {"adds nothing"});
  expect_status(2, {"grow", image_, "--frobnicate"}, {"--help"});
  expect_status(2, {"grow"}, {"no image"});
  expect_status(2, {"widen", image_}, {"no command"});
  expect_status(2, {"grow", image_, image_, "--by", "1GiB"}, {"named twice"});
  expect_status(2, {"grow", image_, "--by", "1GiB", "--disk", "2"}, {"--disk 2"});
}

TEST_F(Refusal, HostWithoutRoom) {
  if (!can_mount()) GTEST_SKIP() << "needs a small filesystem of its own";
  const TempFolder point;
  ASSERT_EQ(run({"mount", "-t", "tmpfs", "-o", "size=16m", "none", point.path().string()}).status,
            0);
  const std::string image = point / "guest.img";
  run({"cp", "--sparse=always", image_, image});
  run({"sh", "-c", "dd if=/dev/zero of=" + (point / "ballast") + " bs=64k; true"});
  expect_status(3, {"grow", image, "--to", "1GiB"}, {"make room"});
  EXPECT_FALSE(files::exists(image + ".juneheath"));
  EXPECT_FALSE(files::exists(image + ".juneheath.open"));
  run({"umount", point.path().string()});
}

TEST_F(Refusal, AContainerThatIsOnlyItsSignature) {
  write_file(folder_ / "disk", std::string("QFI\xfb\0\0\0\3", 8) + std::string(4096, '\0'));
  expect_status(4, {"grow", folder_ / "disk", "--by", "1GiB"}, {"qcow2"});
  expect_status(4, {"survey", folder_ / "disk"});
}

TEST_F(Refusal, ADamagedFilesystem) {
  // A bit of the last group's descriptor: its checksum does not hold any more.
  poke(image_, 1048576 + 2048 + 23 * 64 + 12, std::string("\x77", 1));
  expect_status(4, grow(), {"checksum of its descriptor"});
  expect_status(4, {"audit", image_}, {"finding"});
}

TEST_F(Refusal, ATargetWithSomethingBehindIt) {
  const std::string disk = unpack_sample("nestcam", folder_ / "nestcam.img");
  expect_status(3, {"grow", disk, "--by", "1GiB", "--give", "/boot/efi"},
                {"p3 (ext4) stands directly behind it"});
}

TEST_F(Refusal, SeveralTargetsCouldBeMeant) {
  // Two partitions with a gap behind each: both could take room that is there.
  const std::string disk = folder_ / "two.img";
  make_sparse_file(disk, 200ULL << 20);
  make_ext(folder_ / "fs", 40ULL << 20, {});
  const auto entry = [](std::uint32_t first, std::uint32_t count) {
    std::string raw("\0\xfe\xff\xff\x83\xfe\xff\xff", 8);
    for (const std::uint32_t number : {first, count})
      for (int i = 0; i < 4; ++i) raw += static_cast<char>(number >> (8 * i) & 0xFF);
    return raw;
  };
  poke(disk, 446,
       entry(2048, 40 * 2048) + entry(80 * 2048, 40 * 2048) + std::string(32, '\0') + "\x55\xaa");
  poke(disk, 1 << 20, read_file(folder_ / "fs"));
  poke(disk, 80 << 20, read_file(folder_ / "fs"));
  expect_status(3, {"grow", disk},
                {"several places could take the room", "juneheath grow " + disk + " --give p2"});
  expect_status(0, {"grow", disk, "--give", "p2"});
  EXPECT_EQ(check_ext(disk, 80 << 20), "");
  expect_status(0, {"grow", disk, "--give", "p1"});
  EXPECT_EQ(check_ext(disk, 1 << 20), "");
}

}  // namespace
}  // namespace jh::test
