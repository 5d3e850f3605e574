// What a command promises around the change itself: a backup that is there, a copy of one moment, a
// question before anything is written, an outcome that is true, and files of its own that last.
#include <fcntl.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <thread>

#include "core/store/durable.h"
#include "core/table/table.h"
#include "support/containers.h"
#include "support/guest_story.h"
#include "support/test.h"

namespace jh::test {
namespace {

class PromiseStory : public GuestStory {
 protected:
  std::string sample(const std::string& name, const std::string& as = "") {
    const std::string path = folder_ / (as.empty() ? name + ".img" : as);
    files::remove(path);
    unpack_sample(name, path);
    return path;
  }
};

// ---- A backup.

TEST_F(PromiseStory, ABackupIsThereWhateverItsName) {
  for (const char* name : {"backup\nof the moor", "backup", "a b"}) {
    SCOPED_TRACE(name);
    const std::string image = sample("heather");
    const std::uint32_t before = file_digest(image);
    const std::string backup = folder_ / name;
    expect_status(0,
                  {"grow", image, "--by", "64MiB", "--backup", backup, "--proof", "full", "--yes"});
    ASSERT_TRUE(files::is_regular_file(backup));
    EXPECT_EQ(file_digest(backup), before);
    files::remove(image + ".juneheath");
  }
  EXPECT_EQ(std::distance(files::directory_iterator(folder_.path()), {}), 4);
}

TEST_F(PromiseStory, ABackupOfSeveralFilesIsAFolderThatIsWhole) {
  const std::string disk = folder_ / "heather.vmdk";
  succeeds({"recast", sample("heather"), disk, "--store", "full", "--quiet"});
  const std::uint32_t before = file_digest(folder_ / "heather-flat.vmdk");
  const std::string backup = folder_ / "backup";
  // Cut off at any of its writes there is the whole, or nothing under this name.
  for (int call = 1; call < 40; ++call) {
    SCOPED_TRACE(call);
    const ProgramResult cut =
        juneheath({"grow", disk, "--by", "64MiB", "--backup", backup, "--yes"},
                  {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_AT", std::to_string(call)}});
    ASSERT_EQ(cut.status, 99);
    if (!files::exists(backup)) continue;
    EXPECT_EQ(file_digest((files::path(backup) / "heather-flat.vmdk").string()), before);
    break;
  }
  ASSERT_TRUE(files::exists(backup));
  expect_status(0, {"recover", disk});
  expect_status(0, {"audit", (files::path(backup) / "heather.vmdk").string()});
  // Its name is taken now: nothing is changed.
  expect_status(3, {"grow", disk, "--by", "64MiB", "--backup", backup, "--yes"});
}

// ---- A copy is of one moment.

TEST_F(PromiseStory, ACopyThatSomebodyWritesToIsNone) {
  const std::string image = sample("heather");
  std::atomic<bool> over{false};
  // A writer that honours no locks, and is not this program's: as a guest that starts meanwhile.
  const int fd = ::open(image.c_str(), O_RDWR | O_CLOEXEC);
  std::thread writer([&] {
    for (std::uint32_t i = 0; !over; ++i) (void)!::pwrite(fd, &i, sizeof i, 8 << 20);
  });
  const std::vector<Words> commands{
      {"recast", image, folder_ / "new.qcow2"},
      {"compact", image, "--into", folder_ / "new.img"},
      {"grow", image, "--by", "64MiB", "--into", folder_ / "new.img", "--yes"}};
  for (const auto& command : commands) {
    const ProgramResult outcome = juneheath(command);
    EXPECT_TRUE(outcome.status == 3 || outcome.status == 5) << outcome.out << outcome.err;
    EXPECT_FALSE(files::exists(folder_ / "new.qcow2"));
    EXPECT_FALSE(files::exists(folder_ / "new.img"));
  }
  over = true;
  writer.join();
  ::close(fd);
}

// Begun together, a change and a copy do not meet: one of them waits for nobody, and is refused.
TEST_F(PromiseStory, AChangeAndACopyDoNotMeet) {
  const std::string image = sample("heather");
  const int fd = ::open(image.c_str(), O_RDWR | O_CLOEXEC);
  struct flock range {};
  range.l_whence = SEEK_SET;
  // As a reader holds it: changes are refused, copies are not.
  range.l_type = F_RDLCK;
  ASSERT_EQ(::fcntl(fd, F_OFD_SETLK, &range), 0);
  expect_status(3, {"grow", image, "--by", "64MiB", "--yes"});
  expect_status(3, {"compact", image, "--yes"});
  // As one who changes it holds it: copies are refused too.
  range.l_type = F_WRLCK;
  ASSERT_EQ(::fcntl(fd, F_OFD_SETLK, &range), 0);
  for (const Words& command :
       {Words{"recast", image, folder_ / "new.qcow2"},
        {"compact", image, "--into", folder_ / "new.img"},
        {"grow", image, "--by", "64MiB", "--into", folder_ / "new.img", "--yes"},
        {"grow", image, "--by", "64MiB", "--dry-run"}}) {
    expect_status(3, command);
  }
  ::close(fd);
  expect_status(0, {"recast", image, folder_ / "new.qcow2"});
}

// ---- Whoever sits there is asked.

// The program on a terminal of its own, where somebody types this.
std::string on_terminal(Words words, const std::string& typed, int& status) {
  words.insert(words.begin(), JUNEHEATH_PROGRAM);
  int terminal = -1;
  const pid_t child = ::forkpty(&terminal, nullptr, nullptr, nullptr);
  if (child == 0) {
    std::vector<char*> arguments;
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    ::execv(arguments[0], arguments.data());
    ::_exit(127);
  }
  (void)!::write(terminal, typed.data(), typed.size());
  std::string shown;
  char piece[4096];
  for (ssize_t got = 0; (got = ::read(terminal, piece, sizeof piece)) > 0;)
    shown.append(piece, static_cast<std::size_t>(got));
  int end = 0;
  ::waitpid(child, &end, 0);
  ::close(terminal);
  status = WIFEXITED(end) ? WEXITSTATUS(end) : -1;
  return shown;
}

TEST_F(PromiseStory, OnATerminalOnlyYesMeansYes) {
  const std::string image = sample("heather");
  const std::uint32_t before = file_digest(image);
  for (const std::string option : {"", "--quiet", "--json"})
    for (const Words& command : {Words{"grow", image, "--by", "64MiB"},
                                 {"shrink", image, "--to", "floor"},
                                 {"compact", image}}) {
      Words words = command;
      if (!option.empty()) words.push_back(option);
      int status = -1;
      const std::string shown = on_terminal(words, "n\n", status);
      EXPECT_EQ(status, 3) << option << shown;
      EXPECT_THAT(shown, HasSubstr("Go ahead?")) << option;
      EXPECT_EQ(file_digest(image), before) << option;
    }
  int status = -1;
  on_terminal({"grow", image, "--by", "64MiB", "--quiet"}, "y\n", status);
  EXPECT_EQ(status, 0);
  on_terminal({"undo", image, "--quiet"}, "n\n", status);
  EXPECT_EQ(status, 3);
  on_terminal({"undo", image, "--json", "--yes"}, "", status);
  EXPECT_EQ(status, 0);
  EXPECT_EQ(file_digest(image), before);
}

// ---- Sectors of 4096 bytes.

TEST_F(PromiseStory, LargeSectorsAreWrittenWhereThereIsAFieldAndSaidElsewhere) {
  const std::string image = folder_ / "large.img";
  {
    MemoryStore disk(64U << 20, image);
    const auto table = make_table(disk, TableKind::gpt, 4096);
    table->create(disk, table->place_new(table->facts().partitions, Bytes(disk.size())), Uuid{1});
    save(disk, image);
  }
  const auto sectors = [&](const std::string& path) {
    const auto survey = survey_of({path});
    return survey["disks"][0]["table"]["sector_size"].get<int>();
  };
  ASSERT_EQ(sectors(image), 4096);
  const std::string vhdx = folder_ / "large.vhdx";
  succeeds({"recast", image, vhdx});
  expect_status(0, {"audit", vhdx});
  for (const char* name : {"large.qcow2", "large.vdi", "large.vmdk"}) {
    expect_status(0, {"recast", vhdx, folder_ / name}, {"block size of 4096"});
  }
  // One that says another size than its table counts in is found.
  const std::string bytes = read_file(vhdx);
  const std::string field("\x00\x10\x00\x00", 4);
  bool changed = false;
  for (std::size_t at = bytes.find(field, 2U << 20); at < (3U << 20) && !changed;
       at = bytes.find(field, at + 1)) {
    const std::string old = bytes.substr(at, 4);
    poke(vhdx, at, std::string("\x00\x02\x00\x00", 4));
    const ProgramResult audit = juneheath({"audit", vhdx});
    changed = audit.status == 4 && audit.said("counts sectors of 4096");
    if (!changed) poke(vhdx, at, old);
  }
  EXPECT_TRUE(changed);
}

// ---- Outputs take nobody's place.

TEST_F(PromiseStory, AReportKeepsItsFolder) {
  const std::string image = sample("heather");
  const std::string report = folder_ / "report";
  succeeds({"grow", image, "--by", "64MiB", "--yes", "--report", report});
  const std::string first = read_file(report + "/report.json");
  expect_status(3, {"grow", image, "--by", "64MiB", "--yes", "--report", report},
                {"the report of another run"});
  EXPECT_EQ(read_file(report + "/report.json"), first);
}

TEST_F(PromiseStory, ANewNameIsNeverTakenFromAnother) {
  const std::string taken = folder_ / "taken";
  write_file(taken, "theirs");
  write_file(folder_ / "ours", "ours");
  EXPECT_THROW(rename_durably(folder_ / "ours", taken, NameTaken::refused), Error);
  const std::string text = "ours";
  EXPECT_THROW(write_durable_file(taken, {reinterpret_cast<const std::uint8_t*>(text.data()), 4},
                                  NameTaken::refused),
               Error);
  EXPECT_EQ(read_file(taken), "theirs");
  // No trace is left of what was tried.
  EXPECT_EQ(std::distance(files::directory_iterator(folder_.path()), {}), 2);
  // A link in its place is not followed.
  files::create_symlink(taken, folder_ / "link");
  write_durable_file(folder_ / "link", {reinterpret_cast<const std::uint8_t*>(text.data()), 4});
  EXPECT_EQ(read_file(taken), "theirs");
  EXPECT_FALSE(files::is_symlink(folder_ / "link"));
}

// ---- The outcome is true from the seal on.

TEST_F(PromiseStory, WhatFailsBehindTheSealDoesNotTakeTheChangeBack) {
  for (int round = 0; round < 2; ++round) {
    const std::string image = sample("heather");
    const std::string report = folder_ / fmt::format("report-{}", round);
    int calls = 0;
    {
      const std::string count = folder_ / "count";
      const std::string other = sample("heather", "other.img");
      ASSERT_EQ(juneheath({"grow", other, "--by", "64MiB", "--yes", "--report", report + "-other"},
                          {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_COUNT", count}})
                    .status,
                0);
      calls = std::stoi(read_file(count));
    }
    // The last calls write the report: every one of them fails from there on.
    bool reported = false;
    for (int call = calls - 14; call <= calls; call += 3) {
      files::remove_all(report);
      for (const char* left : {".juneheath", ".juneheath.open"}) files::remove(image + left);
      sample("heather");
      const ProgramResult outcome =
          juneheath({"grow", image, "--by", "64MiB", "--yes", "--report", report},
                    {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                     {"JUNEHEATH_STOP_AT", std::to_string(call)},
                     {"JUNEHEATH_FAIL_WITH", std::to_string(round == 0 ? ENOSPC : EIO)}});
      if (files::file_size(image) == 192U << 20) continue;  // it failed before the seal
      EXPECT_EQ(outcome.status, 5) << call << outcome.out << outcome.err;
      EXPECT_FALSE(outcome.said("Nothing was changed")) << outcome.err;
      reported = true;
    }
    EXPECT_TRUE(reported);
    files::remove(image);
  }
}

// An order counts it as done, and does not do it again.
TEST_F(PromiseStory, AnOrderDoesNotRepeatWhatOnlyCouldNotBeReported) {
  const std::string image = sample("heather");
  write_file(folder_ / "order.toml",
             "order = 1\nreport = \"out\"\n[[guest]]\nname = \"moor\"\ndisks = \"heather.img\"\n"
             "change = \"grow\"\nby = \"64MiB\"\n");
  // A folder where a file of the report is to be.
  files::create_directories(folder_ / "out/guests/moor/report.html/in the way");
  expect_status(5, {"batch", folder_ / "order.toml", "--yes"});
  EXPECT_EQ(files::file_size(image), 256U << 20);
  files::remove_all(folder_ / "out/guests/moor/report.html");
  juneheath({"batch", folder_ / "order.toml", "--yes"});
  EXPECT_EQ(files::file_size(image), 256U << 20);
}

}  // namespace
}  // namespace jh::test
