// Work orders from end to end: what is done is done once, whatever happens in between.
#include <fcntl.h>
#include <sys/file.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <thread>

#include "support/schema.h"
#include "support/test.h"

namespace jh::test {
namespace {

using nlohmann::json;
constexpr std::uint64_t root_at = 1048576;  // of heather's filesystem

class BatchStory : public testing::Test {
 protected:
  void guests(int count) {
    for (int i = 0; i < count; ++i) unpack_sample("heather", image(i));
  }
  std::string image(int i) const { return folder_ / ("nest" + std::to_string(i) + ".img"); }
  std::string order(const std::string& text) {
    write_file(folder_ / "order.toml", "order = 1\nreport = \"out\"\n" + text);
    return folder_ / "order.toml";
  }
  json results() const { return json::parse(read_file(folder_ / "out/results.json")); }
  std::string result(int i) const {
    return results()["guests"][static_cast<std::size_t>(i)]["result"];
  }
  /// The order, on its way in a process group of its own.
  static pid_t begin(const std::string& path) {
    const pid_t child = ::fork();
    if (child == 0) {
      ::setpgid(0, 0);
      const int nothing = ::open("/dev/null", O_RDWR);
      ::dup2(nothing, 1);
      ::dup2(nothing, 2);
      const char* other = std::getenv("JUNEHEATH_PROGRAM");
      ::execl(other != nullptr ? other : JUNEHEATH_PROGRAM, "juneheath", "batch", path.c_str(),
              "--yes", nullptr);
      ::_exit(127);
    }
    ::setpgid(child, child);
    return child;
  }
  TempFolder folder_;
};

const char* grow_all =
    "jobs = 2\n[defaults]\nchange = \"grow\"\nby = \"128MiB\"\n[[guest]]\neach = \"nest*.img\"\n";
constexpr std::uintmax_t old_size = 192U << 20;
constexpr std::uintmax_t new_size = 320U << 20;

TEST_F(BatchStory, ChangesAllAndSaysSo) {
  guests(4);
  const std::string path = order(grow_all);
  expect_status(0, {"batch", path, "--dry-run"}, {"320 MiB"});
  EXPECT_EQ(check_schema(juneheath({"batch", path, "--dry-run", "--json"}).out), "");
  for (int i = 0; i < 4; ++i) EXPECT_EQ(files::file_size(image(i)), old_size);

  const ProgramResult outcome = expect_status(0, {"batch", path, "--yes", "--json"});
  EXPECT_EQ(check_schema(outcome.out), "");
  EXPECT_EQ(check_schema(read_file(folder_ / "out/results.json")), "");
  for (int i = 0; i < 4; ++i) {
    EXPECT_EQ(files::file_size(image(i)), new_size);
    EXPECT_EQ(check_ext(image(i), root_at), "");
    EXPECT_EQ(check_schema(read_file(folder_ / fmt::format("out/guests/nest{}/report.json", i))),
              "");
  }
  EXPECT_THAT(read_file(folder_ / "out/index.html"), HasSubstr("guests/nest3/report.html"));
  EXPECT_THAT(read_file(folder_ / "out/results.csv"), HasSubstr("nest2,grow,done,0,"));

  // Again: nothing is left to do, and an increment is not added twice.
  expect_status(0, {"batch", path, "--yes"}, {"4 done earlier"});
  for (int i = 0; i < 4; ++i) EXPECT_EQ(files::file_size(image(i)), new_size);
  // What was done stays done when it is taken back by hand: the order does not overrule people.
  expect_status(0, {"undo", image(1), "--yes"});
  expect_status(0, {"batch", path, "--yes"});
  EXPECT_EQ(files::file_size(image(1)), old_size);
}

TEST_F(BatchStory, GoesOnOrStopsAfterAFailure) {
  guests(3);
  const std::string guests_text =
      "[defaults]\nchange = \"grow\"\nby = \"128MiB\"\n[[guest]]\ndisks = \"nest0.img\"\n"
      "[[guest]]\ndisks = \"nest1.img\"\ngive = \"/nowhere\"\n[[guest]]\ndisks = \"nest2.img\"\n";
  expect_status(3, {"batch", order("after_failure = \"stop\"\n" + guests_text), "--yes"},
                {"1 guest of the order is refused"});
  for (int i = 0; i < 3; ++i) EXPECT_EQ(files::file_size(image(i)), old_size);

  files::remove_all(folder_ / "out");
  EXPECT_EQ(juneheath({"batch", order(guests_text), "--yes"}).status, 3);
  EXPECT_EQ(result(0), "done");
  EXPECT_EQ(result(1), "refused");
  EXPECT_EQ(result(2), "done");
  // Nobody waited for the plans: each was made once, when its guest was changed.
  for (int i = 0; i < 3; ++i)
    EXPECT_FALSE(files::exists(folder_ / fmt::format("out/guests/nest{}/plan.json", i)));
  EXPECT_EQ(files::file_size(image(1)), old_size);
  // Put right, the order does what is left, and only that.
  const std::string repaired =
      "[defaults]\nchange = \"grow\"\nby = \"128MiB\"\n[[guest]]\ndisks = \"nest0.img\"\n"
      "[[guest]]\ndisks = \"nest1.img\"\ngive = \"/\"\n[[guest]]\ndisks = \"nest2.img\"\n";
  expect_status(0, {"batch", order(repaired), "--yes"});
  EXPECT_EQ(result(0), "done earlier");
  EXPECT_EQ(result(1), "done");
  for (int i = 0; i < 3; ++i) EXPECT_EQ(files::file_size(image(i)), new_size);
}

TEST_F(BatchStory, BeginsNoneAfterItsDeadline) {
  guests(2);
  const ProgramResult late = expect_status(
      3, {"batch", order("deadline = 2020-01-01T00:00:00Z\n" + std::string(grow_all)), "--yes"});
  EXPECT_EQ(result(0), "not begun");
  EXPECT_TRUE(late.said("the deadline has passed")) << late.out;
  for (int i = 0; i < 2; ++i) EXPECT_EQ(files::file_size(image(i)), old_size);
}

TEST_F(BatchStory, DoesEveryKindOfChange) {
  guests(3);
  unpack_sample("fieldstation", folder_ / "field.img");
  const std::string path = order(
      "[[guest]]\ndisks = \"nest0.img\"\nchange = \"shrink\"\nto = \"floor\"\n"
      "[[guest]]\ndisks = \"nest1.img\"\nchange = \"recast\"\nnew = \"{name}.qcow2\"\n"
      "[[guest]]\ndisks = \"nest2.img\"\nchange = \"compact\"\n"
      "[[guest]]\ndisks = \"field.img\"\nchange = \"grow\"\nadd_disk = \"more.img=512MiB\"\ngive = "
      "\"/home\"\n");
  // Making something smaller wants to be asked for twice.
  expect_status(3, {"batch", path});
  EXPECT_EQ(juneheath({"batch", path, "--yes"}).status, 0)
      << read_file(folder_ / "out/results.json");
  EXPECT_LT(files::file_size(image(0)), old_size);
  EXPECT_TRUE(files::exists(folder_ / "nest1.qcow2"));
  EXPECT_EQ(files::file_size(folder_ / "more.img"), 512U << 20);
  expect_status(0, {"audit", folder_ / "field.img", folder_ / "more.img"});
  expect_status(0, {"batch", path, "--yes"});
  for (int i = 0; i < 4; ++i) EXPECT_EQ(result(i), "done earlier");
}

// A run that is at work on a guest keeps others from it.
TEST_F(BatchStory, TwoRunsDoNotMeet) {
  guests(1);
  const std::string path = order(grow_all);
  files::create_directories(folder_ / "out/guests/nest0");
  const int lock = ::open((folder_ / "out/guests/nest0/lock").c_str(), O_RDWR | O_CREAT, 0644);
  ASSERT_EQ(::flock(lock, LOCK_EX), 0);
  expect_status(3, {"batch", path, "--yes"});
  EXPECT_EQ(files::file_size(image(0)), old_size);
  ::close(lock);
  expect_status(0, {"batch", path, "--yes"});
  EXPECT_EQ(files::file_size(image(0)), new_size);
}

// All of it killed, again and again, at any time: in the end each guest has grown once.
TEST_F(BatchStory, KilledAtAnyTimeItDoesNothingTwice) {
  const auto seed = seed_of_run();
  fmt::print("  seed {}\n", seed);
  std::mt19937 random(seed);
  int killed = 0;
  for (int round = 0; round < 2; ++round) {
    for (const auto& entry : files::directory_iterator(folder_.path())) files::remove_all(entry);
    guests(5);
    const std::string path = order(grow_all);
    for (int turn = 0; turn < 6; ++turn) {
      const pid_t child = begin(path);
      std::this_thread::sleep_for(std::chrono::microseconds(random() % 400000));
      // The order alone: its guests' processes end with it.
      killed += ::kill(turn % 2 == 0 ? child : -child, SIGKILL) == 0 ? 1 : 0;
      int status = 0;
      ::waitpid(child, &status, 0);
    }
    succeeds({"batch", path, "--yes"});
    for (int i = 0; i < 5; ++i) {
      ASSERT_EQ(files::file_size(image(i)), new_size) << "guest " << i;
      ASSERT_EQ(check_ext(image(i), root_at), "");
    }
  }
  EXPECT_GT(killed, 5);
}

// Ctrl-C: what runs stops where it may or ends, nothing else begins, and the table says so.
TEST_F(BatchStory, StopsWhenAsked) {
  int stopped = 0;
  for (int wait = 10; wait < 400; wait += 100) {
    for (const auto& entry : files::directory_iterator(folder_.path())) files::remove_all(entry);
    guests(6);
    const std::string path = order(grow_all);
    const pid_t child = begin(path);
    std::this_thread::sleep_for(std::chrono::milliseconds(wait));
    ::kill(-child, SIGINT);
    int status = 0;
    ::waitpid(child, &status, 0);
    ASSERT_TRUE(WIFEXITED(status) || WTERMSIG(status) == SIGINT) << status;
    stopped += WIFEXITED(status) && WEXITSTATUS(status) == 3 ? 1 : 0;
    for (int i = 0; i < 6; ++i) EXPECT_EQ(check_ext(image(i), root_at), "") << wait;
    succeeds({"batch", path, "--yes"});
    for (int i = 0; i < 6; ++i) EXPECT_EQ(files::file_size(image(i)), new_size);
  }
  EXPECT_GT(stopped, 0);
}

// Cut off at each of the calls that write, not only at any time.
TEST_F(BatchStory, CutOffAtEachWriteItDoesNothingTwice) {
  bool in_use_meanwhile = false;
  // What is not flushed by then is lost: the guest's notes, and the names of their folders.
  const TempFolder memory;
  const auto stopped_at = [&](int call) {
    in_use_meanwhile = !in_use_meanwhile;
    for (const auto& entry : files::directory_iterator(folder_.path())) files::remove_all(entry);
    guests(1);
    const std::string path = order(grow_all);
    const ProgramResult cut = juneheath({"batch", path, "--only", "nest0"},
                                        {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                                         {"JUNEHEATH_STOP_AT", std::to_string(call)},
                                         {"JUNEHEATH_FORGET", memory.path().string()}});
    if (in_use_meanwhile) {
      // A run in between finds the image in use, and can find out nothing: that decides nothing.
      const int fd = ::open(image(0).c_str(), O_RDWR | O_CLOEXEC);
      struct flock range {};
      range.l_type = F_WRLCK;
      range.l_whence = SEEK_SET;
      EXPECT_EQ(::fcntl(fd, F_OFD_SETLK, &range), 0);
      if (cut.status != 0) {
        EXPECT_NE(juneheath({"batch", path, "--yes"}).status, 0) << "call " << call;
      }
      ::close(fd);
    }
    const ProgramResult rest = juneheath({"batch", path, "--yes"});
    EXPECT_EQ(rest.status, 0) << call << rest.out << rest.err;
    EXPECT_EQ(files::file_size(image(0)), new_size) << "call " << call;
    EXPECT_EQ(check_ext(image(0), root_at), "") << "call " << call;
    return cut.status != 0;
  };
  // A random part of them in a run; all with JUNEHEATH_FULL.
  const bool all = takes_all();
  std::mt19937 random{seed_of_run()};
  int call = 1;
  while (stopped_at(call) && call < 400) call += all ? 1 : 1 + static_cast<int>(random() % 7);
  EXPECT_GT(call, 20) << "it was cut off too seldom";
  EXPECT_LT(call, 400);
}

// Forty guests of mixed forms and filesystems, three of them bad, and the whole of it killed in the
// middle.
TEST_F(BatchStory, FortyGuestsThreeOfThemBad) {
  const Words samples{"heather",  "nestcam",       "mbr-extended",
                      "mbr-ntfs", "whole-disk-pv", "mbr-boot-lvm"};
  const Words forms{"qcow2", "vhdx", "vdi", "vmdk", "vhd", "img"};
  std::map<std::string, std::uint64_t> sizes;  // of the disks, by guest
  files::create_directory(folder_ / "farm");
  for (std::size_t i = 0; i < 37; ++i) {
    const std::string& sample = samples[i % samples.size()];
    const std::string& format = forms[(i / samples.size()) % forms.size()];
    const std::string raw = folder_ / (sample + ".img");
    if (!files::exists(raw)) unpack_sample(sample, raw);
    const std::string name = fmt::format("{}-{}", sample, i);
    succeeds({"recast", raw, folder_ / ("farm/" + name + "." + format), "--quiet"});
    sizes[name] = files::file_size(raw);
  }
  unpack_sample("swap-behind", folder_ / "farm/bad-1.img");
  unpack_sample("ntfs-asleep", folder_ / "farm/bad-2.img");
  unpack_sample("heather", folder_ / "farm/bad-3.img");
  poke(folder_ / "farm/bad-3.img", root_at + 4096 + 4, std::string(16, '\x5a'));
  const std::string path = order(
      "jobs = 2\nmemory = \"512MiB\"\n[[guest]]\nchange = \"grow\"\nby = \"64MiB\"\neach = "
      "\"farm/*\"\n");

  const pid_t child = begin(path);
  // When about half of them are done.
  const auto done = [&] {
    std::size_t count = 0;
    std::error_code error;
    for (const auto& entry : files::directory_iterator(folder_ / "out/guests", error))
      count +=
          read_file((entry.path() / "task.json").string()).find("\"done\"") != std::string::npos
              ? 1
              : 0;
    return count;
  };
  for (int i = 0; i < 6000 && done() < 15; ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  ::kill(child, SIGKILL);
  int status = 0;
  ::waitpid(child, &status, 0);

  const ProgramResult rest = juneheath({"batch", path, "--yes", "--json"});
  const json results = json::parse(rest.out);
  EXPECT_EQ(rest.status, 4) << "one of them is damaged: " << results["totals"];
  std::size_t earlier = 0;
  for (const json& guest : results["guests"]) {
    const std::string name = guest["name"];
    if (name.starts_with("bad")) {
      EXPECT_NE(guest["status"], 0) << name;
      EXPECT_NE(guest["message"], "") << name;
      EXPECT_EQ(guest["result"], name == "bad-3" ? "failed" : "refused") << guest["message"];
      continue;
    }
    earlier += guest["result"] == "done earlier" ? 1 : 0;
    EXPECT_EQ(guest["status"], 0) << name << guest["message"];
    EXPECT_EQ(guest["disk_after"], sizes[name] + (64U << 20)) << name << ": not once, and no more";
    EXPECT_LT(guest["peak_memory"].get<std::uint64_t>(), 256U << 20) << name;
    const std::string image = folder_ / guest["images"][0].get<std::string>();
    EXPECT_EQ(juneheath({"audit", image, "--quiet"}).status, 0) << name;
  }
  EXPECT_EQ(results["guests"].size(), 40U);
  EXPECT_GE(earlier, 10U);
}

}  // namespace
}  // namespace jh::test
