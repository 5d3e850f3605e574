// The built program, ended on the spot, or failed by the system, at every call that writes or
// flushes: growing, shrinking, and compacting in place; also on a disk that keeps only what was
// flushed, names in their folders included.
#include <cerrno>

#include "support/same_guest.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

struct Trouble {
  const char* name;
  int error;             // 0: the process ends
  const char* how_many;  // calls that fail; null: all from there on
  bool forgets = false;  // what was not flushed is lost
};

void PrintTo(const Trouble& item, std::ostream* out) { *out << item.name; }

struct Work {
  const char* name;
  Words command;       // the image follows its first word
  const char* format;  // of the image; null: raw
  long stride;         // of calls to stop at
  bool in_steps;       // each of which leaves a sound image of its own
};

void PrintTo(const Work& item, std::ostream* out) { *out << item.name; }

class StoppedProgram : public testing::TestWithParam<std::tuple<Work, Trouble>> {
 protected:
  void SetUp() override {
    if (is_sanitized)
      GTEST_SKIP() << "preloading and the sanitizer's own library do not go together";
    unpack_sample("heather", folder_ / "base.raw");
    const Work& work = std::get<0>(GetParam());
    if (work.in_steps) {
      if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
      ASSERT_EQ(fill_and_delete(folder_ / "base.raw", 1048576, 120), 120U);
    }
    if (work.format != nullptr)
      succeeds({"recast", folder_ / "base.raw", base_, "--form", work.format});
    else
      files::rename(folder_ / "base.raw", base_);
    command_ = work.command;
    command_.insert(command_.begin() + 1, image_);
    command_.push_back("--quiet");
  }

  void fresh_start() {
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (!entry.path().filename().string().starts_with("base.")) files::remove_all(entry.path());
    run({"cp", "--sparse=always", base_, image_});
    files::create_directory(memory_);
  }

  // What the disk in the image holds, whatever the image.
  std::string disk() {
    const std::string raw = recast_raw(image_, folder_ / "as-raw");
    EXPECT_EQ(check_ext(raw, 1048576), "");
    FileHost host;
    return what_the_guest_finds(host, raw);
  }

  const TempFolder folder_;
  const std::string base_ = folder_ / "base.img";
  const std::string image_ = folder_ / "guest.img";
  const std::string memory_ = folder_ / "memory";  // of what a disk will lose
  Words command_;
};

TEST_P(StoppedProgram, LeavesOldOrNew) {
  SKIP_UNLESS_TAKEN(5)
  const auto& [work, trouble] = GetParam();
  fresh_start();
  const std::string old_disk = disk();
  const std::uint32_t old_digest = file_digest(image_);
  Facts environment{{"LD_PRELOAD", JUNEHEATH_STOPPER}};
  if (trouble.forgets) environment["JUNEHEATH_FORGET"] = memory_;
  auto counting = environment;
  counting["JUNEHEATH_STOP_COUNT"] = folder_ / "count";
  const ProgramResult whole = juneheath(command_, counting);
  ASSERT_EQ(whole.status, 0) << whole.err;
  const std::uint32_t new_digest = file_digest(image_);
  const std::string new_disk = disk();
  const long calls = std::stol(read_file(folder_ / "count"));
  ASSERT_GT(calls, 20);
  if (trouble.error != 0) environment["JUNEHEATH_FAIL_WITH"] = std::to_string(trouble.error);
  if (trouble.how_many != nullptr) environment["JUNEHEATH_FAIL_FOR"] = trouble.how_many;
  int olds = 0;
  int news = 0;
  const long stride = trouble.error == 0 && !trouble.forgets ? work.stride : 3 * work.stride;
  // The seal is a handful of calls at the end: all of them.
  for (long n = 1; n <= calls; n += n + stride < calls - 8 ? stride : 1) {
    fresh_start();
    environment["JUNEHEATH_STOP_AT"] = std::to_string(n);
    const ProgramResult stopped = juneheath(command_, environment);
    if (trouble.error == 0) {
      ASSERT_EQ(stopped.status, 99) << n << stopped.err;
    } else if (stopped.status != 0) {  // a hint that failed may be got over
      ASSERT_TRUE(stopped.status == 3 || stopped.status == 5) << n << stopped.err;
      ASSERT_TRUE(stopped.said("next:")) << n << stopped.err;
    }
    const ProgramResult recovered = juneheath({"recover", image_});
    ASSERT_EQ(recovered.status, 0) << n << recovered.err;
    const std::uint32_t digest = file_digest(image_);
    const bool is_old = digest == old_digest;
    bool disk_is_old = false;
    if (!is_old && (digest != new_digest || work.in_steps)) {
      // Free room that was written to, or some of the steps: what the guest finds is what counts.
      const std::string now = disk();
      disk_is_old = now == old_disk;
      ASSERT_TRUE(now == old_disk || now == new_disk) << "stopped at call " << n;
      ASSERT_EQ(juneheath({"audit", image_}).status, 0) << n;
    }
    ++(is_old || (disk_is_old && !work.in_steps) ? olds : news);
  }
  EXPECT_GT(olds, 0);
  EXPECT_GT(news, 0);
}

// What is done is lost when nothing is flushed: the test sees it.
TEST_P(StoppedProgram, WouldNoticeThatNothingIsFlushed) {
  if (!std::get<1>(GetParam()).forgets) GTEST_SKIP() << "only on a disk that forgets";
  fresh_start();
  const std::uint32_t old_digest = file_digest(image_);
  const ProgramResult done = juneheath(command_, {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                                                  {"JUNEHEATH_FORGET", memory_},
                                                  {"JUNEHEATH_FORGET_ALL", "1"}});
  ASSERT_EQ(done.status, 0) << done.err;
  EXPECT_EQ(file_digest(image_), old_digest);
}

const Trouble ends{"Ends", 0, nullptr};
const Trouble forgets{"Forgets", 0, nullptr, true};
const Trouble dies{"DiskDies", EIO, nullptr};
const Trouble stumbles{"DiskStumbles", EIO, "1"};
const Trouble fills{"HostFills", ENOSPC, nullptr};

const Work grows{"Grow", {"grow", "--to", "256MiB"}, nullptr, 1, false};
const Work shrinks{"Shrink", {"shrink", "--to", "floor", "--yes"}, nullptr, 7, false};
const Work shrinks_sparse{"ShrinkQcow2", {"shrink", "--to", "floor", "--yes"}, "qcow2", 7, false};
const Work compacts{"CompactQcow2", {"compact", "--yes"}, "qcow2", 5, true};
const Work compacts_sparse{"CompactVdi", {"compact", "--yes"}, "vdi", 5, true};

INSTANTIATE_TEST_SUITE_P(Commands, StoppedProgram,
                         testing::Combine(testing::Values(grows, shrinks, shrinks_sparse, compacts,
                                                          compacts_sparse),
                                          testing::Values(ends, forgets, dies, stumbles, fills)),
                         [](const auto& test) {
                           return std::string(std::get<0>(test.param).name) +
                                  std::get<1>(test.param).name;
                         });

}  // namespace
}  // namespace jh::test
