// Every check before a change, through the built program: message, exit status, no byte changed, no
// ledger left.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "core/carry/checks.h"
#include "support/judges.h"
#include "support/program.h"
#include "support/samples.h"

namespace jh::test {
namespace {

namespace files = std::filesystem;

class Refusal : public testing::Test {
 protected:
  void SetUp() override { unpack_sample("heather", image_); }

  void expect(const std::vector<std::string>& command, int status, const std::string& words) {
    const std::uint32_t before = file_digest(image_);
    const auto names_before = names();
    const ProgramResult outcome = juneheath(command);
    EXPECT_EQ(outcome.status, status) << outcome.out << outcome.err;
    EXPECT_TRUE(outcome.said(words)) << outcome.err;
    EXPECT_EQ(file_digest(image_), before);
    EXPECT_EQ(names(), names_before);
  }
  std::vector<std::string> names() const {
    std::vector<std::string> all;
    for (const auto& entry : files::directory_iterator(folder_.path()))
      all.push_back(entry.path().filename().string());
    std::sort(all.begin(), all.end());
    return all;
  }
  std::vector<std::string> grow() const { return {"grow", image_, "--by", "100MiB"}; }

  TempFolder folder_;
  std::string image_ = folder_ / "guest.img";
};

TEST_F(Refusal, OpenInAnotherProcess) {
  const int fd = ::open(image_.c_str(), O_RDWR);
  expect(grow(), 3, "is open in process");
  ::close(fd);
}

// What an audit finds in an image that somebody writes to says nothing of the image.
TEST_F(Refusal, DamageThatAWriterMayBeInTheMiddleOf) {
  poke(image_, 1048576 + 4096, std::string(64, '\xee'));
  expect({"audit", image_}, 4, "");
  const int fd = ::open(image_.c_str(), O_RDWR);
  expect({"audit", image_}, 3, "is open in process");
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
  expect(grow(), 3, "process");
  ::close(fd);
}

TEST_F(Refusal, AttachedOrMounted) {
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const Mounted mounted(image_, 1048576);
  expect(grow(), 3, "mounted at " + mounted.path());
}

TEST_F(Refusal, MarkedReadOnly) {
  ::chmod(image_.c_str(), 0444);
  expect(grow(), 3, "marked read-only");
  ::chmod(image_.c_str(), 0644);
}

TEST_F(Refusal, NoRegularFileNorBlockDevice) {
  expect({"grow", folder_.path().string(), "--by", "1GiB"}, 3, "is a directory");
  expect({"grow", "/dev/null", "--by", "1GiB"}, 3, "neither a regular file nor a block device");
  expect({"grow", folder_ / "missing.img", "--by", "1GiB"}, 3, "No such file");
}

TEST_F(Refusal, MarkedAsHavingErrors) {
  const TempFolder other;
  const std::string plain = other / "plain.img";
  make_ext(plain, 32ULL << 20, {"-O", "^metadata_csum"});
  poke(plain, 1024 + 0x3A, std::string("\x02", 1));
  const std::uint32_t before = file_digest(plain);
  const ProgramResult outcome = juneheath({"grow", plain, "--by", "100MiB"});
  EXPECT_EQ(outcome.status, 3);
  EXPECT_TRUE(outcome.said("having errors")) << outcome.err;
  EXPECT_EQ(file_digest(plain), before);
}

TEST_F(Refusal, AnInterruptedChangeIsPresent) {
  write_file(folder_ / "count", "");
  // Stopped somewhere in the middle, with the ledger begun.
  const ProgramResult stopped = juneheath(grow(), {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                                                   {"JUNEHEATH_STOP_AT", "8"},
                                                   {"ASAN_OPTIONS", "verify_asan_link_order=0"}});
  ASSERT_EQ(stopped.status, 99) << stopped.err;
  ASSERT_TRUE(files::exists(image_ + ".juneheath.open"));
  expect(grow(), 3, "juneheath recover");
  expect({"undo", image_}, 3, "juneheath recover");
  EXPECT_EQ(juneheath({"recover", image_}).status, 0);
  EXPECT_FALSE(files::exists(image_ + ".juneheath.open"));
}

TEST_F(Refusal, LessThanThereIs) {
  expect({"grow", image_, "--to", "100MiB"}, 3, "juneheath survey");
}

TEST_F(Refusal, NoRoomAndNothingAskedFor) { expect({"grow", image_}, 3, "nothing to do"); }

TEST_F(Refusal, UnknownTargetListsWhatThereIs) {
  expect({"grow", image_, "--by", "1GiB", "--give", "/var"}, 3, "label:ringing");
}

TEST_F(Refusal, WrongUsage) {
  expect({"grow", image_, "--by", "1GiB", "--to", "2GiB"}, 2, "exclude each other");
  expect({"grow", image_, "--by", "1Gib"}, 2, "not a size");
  expect({"grow", image_, "--by", "0"}, 2, "adds nothing");
  expect({"grow", image_, "--frobnicate"}, 2, "--help");
  expect({"grow"}, 2, "no image");
  expect({"widen", image_}, 2, "no command");
  expect({"grow", image_, image_, "--by", "1GiB"}, 2, "named twice");
  expect({"grow", image_, "--by", "1GiB", "--disk", "2"}, 2, "--disk 2");
}

TEST_F(Refusal, HostWithoutRoom) {
  if (!can_mount()) GTEST_SKIP() << "needs a small filesystem of its own";
  const TempFolder point;
  ASSERT_EQ(run({"mount", "-t", "tmpfs", "-o", "size=16m", "none", point.path().string()}).status,
            0);
  const std::string image = point / "guest.img";
  run({"cp", "--sparse=always", image_, image});
  run({"sh", "-c", "dd if=/dev/zero of=" + (point / "ballast") + " bs=64k; true"});
  const std::uint32_t before = file_digest(image);
  const ProgramResult outcome = juneheath({"grow", image, "--to", "1GiB"});
  EXPECT_EQ(outcome.status, 3) << outcome.out << outcome.err;
  EXPECT_TRUE(outcome.said("make room")) << outcome.err;
  EXPECT_EQ(file_digest(image), before);
  EXPECT_FALSE(files::exists(image + ".juneheath"));
  EXPECT_FALSE(files::exists(image + ".juneheath.open"));
  run({"umount", point.path().string()});
}

TEST_F(Refusal, AContainerThatIsOnlyItsSignature) {
  write_file(folder_ / "disk", std::string("QFI\xfb\0\0\0\3", 8) + std::string(4096, '\0'));
  const ProgramResult outcome = juneheath({"grow", folder_ / "disk", "--by", "1GiB"});
  EXPECT_EQ(outcome.status, 4);
  EXPECT_TRUE(outcome.said("qcow2")) << outcome.err;
  EXPECT_EQ(juneheath({"survey", folder_ / "disk"}).status, 4);
}

TEST_F(Refusal, ADamagedFilesystem) {
  // A bit of the last group's descriptor: its checksum does not hold any more.
  poke(image_, 1048576 + 2048 + 23 * 64 + 12, std::string("\x77", 1));
  expect(grow(), 4, "checksum of its descriptor");
  expect({"audit", image_}, 4, "finding");
}

TEST_F(Refusal, ATargetWithSomethingBehindIt) {
  const std::string disk = folder_ / "nestcam.img";
  unpack_sample("nestcam", disk);
  const std::uint32_t before = file_digest(disk);
  const ProgramResult outcome = juneheath({"grow", disk, "--by", "1GiB", "--give", "/boot/efi"});
  EXPECT_EQ(outcome.status, 3);
  EXPECT_TRUE(outcome.said("p3 (ext4) stands directly behind it")) << outcome.err;
  EXPECT_EQ(file_digest(disk), before);
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
  const std::uint32_t before = file_digest(disk);
  const ProgramResult outcome = juneheath({"grow", disk});
  EXPECT_EQ(outcome.status, 3);
  EXPECT_TRUE(outcome.said("several places could take the room")) << outcome.err;
  EXPECT_TRUE(outcome.said("juneheath grow " + disk + " --give p2")) << outcome.err;
  EXPECT_EQ(file_digest(disk), before);
  EXPECT_EQ(juneheath({"grow", disk, "--give", "p2"}).status, 0);
  EXPECT_EQ(check_ext(disk, 80 << 20), "");
  EXPECT_EQ(juneheath({"grow", disk, "--give", "p1"}).status, 0);
  EXPECT_EQ(check_ext(disk, 1 << 20), "");
}

}  // namespace
}  // namespace jh::test
