// Work orders: what is read, what is refused, and what a second run knows.
#include "core/order/order.h"

#include "cli/terminal.h"
#include "core/base/csv.h"
#include "core/order/patterns.h"
#include "core/order/results.h"
#include "core/order/state.h"
#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "support/test.h"

namespace jh::test {
namespace {

std::optional<std::vector<OptionFact>> some_options(const std::string& change) {
  if (change == "grow")
    return std::vector<OptionFact>{
        {"to", true, false},          {"by", true, false},    {"give", true, true},
        {"allow-move", false, false}, {"disk", true, false},  {"add-disk", true, true},
        {"into", true, false},        {"json", false, false}, {"dry-run", false, false}};
  if (change == "recast") return std::vector<OptionFact>{{"form", true, false}};
  if (change == "compact" || change == "shrink" || change == "audit" || change == "survey")
    return std::vector<OptionFact>{{"to", true, false}};
  return std::nullopt;
}

class OrderTest : public testing::Test {
 protected:
  void SetUp() override {
    files::create_directories(folder_ / "cams");
    for (const char* name :
         {"heath.img", "bog.img", "cams/a.img", "cams/b.img", "cams/b.img.juneheath"})
      write_file(folder_ / name, "x");
  }
  Order read(const std::string& text, std::int64_t now = 1000) {
    write_file(path(), text);
    return read_order(path(), some_options, now);
  }
  std::string path() const { return folder_ / "order.toml"; }
  // Refused, at this line, with words on what is wrong and on what would be right.
  void expect_wrong(const std::string& text, int line, const std::string& what,
                    const std::string& allowed) {
    const Error error = expect_error(Status::usage, what, [&] { read(text); });
    EXPECT_EQ(error.where(), fmt::format("{}, line {}", path(), line)) << error.what();
    EXPECT_THAT(cli::text_of(error.next()), HasSubstr(allowed));
  }
  TempFolder folder_;
};

TEST_F(OrderTest, SaysWhatIsToBeDone) {
  const Order order = read(
      "order = 1\ntitle = \"Season\"\njobs = 3\nmemory = \"1GiB\"\nafter_failure = \"stop\"\n"
      "deadline = \"1h30min\"\nreport = \"out\"\n[storage]\njobs = 2\n[slurm]\noptions = [\"-p\", "
      "\"x\"]\n"
      "[defaults]\nchange = \"grow\"\nby = \"1GiB\"\nallow_move = true\n"
      "[[guest]]\ndisks = [\"heath.img\", \"bog.img\"]\nname = \"heath\"\ngive = [\"/var=1GiB\", "
      "\"/\"]\n"
      "[[guest]]\neach = \"cams/*.img\"\nto = \"5GiB\"\nallow_move = false\n");
  EXPECT_EQ(order.title, "Season");
  EXPECT_EQ(order.jobs, 3U);
  EXPECT_EQ(order.jobs_per_storage, 2U);
  EXPECT_EQ(order.memory, 1ULL << 30);
  EXPECT_EQ(order.after_failure, Order::AfterFailure::stop);
  EXPECT_EQ(order.deadline, 1000 + 5400);
  EXPECT_EQ(order.report, folder_ / "out");
  EXPECT_EQ(order.slurm_options, (Words{"-p", "x"}));
  ASSERT_EQ(order.tasks.size(), 3U);
  EXPECT_EQ(order.tasks[0].name, "heath");
  EXPECT_EQ(order.tasks[0].arguments, (Words{"heath.img", "bog.img", "--give", "/var=1GiB",
                                             "--give", "/", "--allow-move", "--by", "1GiB"}));
  // A pattern makes a guest of each image, never of a ledger; a guest's own word counts.
  EXPECT_EQ(order.tasks[1].name, "a");
  EXPECT_EQ(order.tasks[2].arguments, (Words{"cams/b.img", "--to", "5GiB"}));
}

TEST_F(OrderTest, NamesStandForGuests) {
  const Order order = read(
      "order = 1\n[[guest]]\nchange = \"recast\"\neach = \"cams/*.img\"\nnew = "
      "\"new/{name}.qcow2\"\n"
      "form = \"qcow2\"\n");
  ASSERT_EQ(order.tasks.size(), 2U);
  EXPECT_EQ(order.tasks[1].arguments, (Words{"cams/b.img", "new/b.qcow2", "--form", "qcow2"}));
  EXPECT_EQ(order.tasks[1].made, Words{"new/b.qcow2"});
}

TEST_F(OrderTest, DeadlinesAreMomentsToo) {
  const auto deadline = [&](const std::string& text) {
    return read("order = 1\ndeadline = " + text +
                "\n[[guest]]\nchange = \"audit\"\ndisks = \"heath.img\"\n")
        .deadline;
  };
  EXPECT_EQ(deadline("1970-01-02T00:00:00Z"), 86400);
  EXPECT_EQ(deadline("1970-01-02T01:00:00+01:00"), 86400);
  EXPECT_EQ(deadline("\"90s\""), 1090);
}

TEST_F(OrderTest, WhatIsWrongIsNamedWithItsLine) {
  const std::string guest = "[[guest]]\nchange = \"grow\"\ndisks = \"heath.img\"\n";
  expect_wrong("jobs = 2\n" + guest, 1, "which format", "order = 1");
  expect_wrong("order = 2\n" + guest, 1, "which format", "order = 1");
  expect_wrong("order = 1\n", 1, "no guest", "[[guest]]");
  expect_wrong("order = 1\njbos = 2\n" + guest, 2, "\"jbos\" is not known", "jobs");
  expect_wrong("order = 1\njobs = 0\n" + guest, 2, "not a number", "1 to 1024");
  expect_wrong("order = 1\njobs = \n", 2, "", "docs/order.md");
  expect_wrong("order = 1\nafter_failure = \"run\"\n" + guest, 2, "run", "\"go on\" or \"stop\"");
  expect_wrong("order = 1\nmemory = \"12 apples\"\n" + guest, 2, "memory", "");
  expect_wrong("order = 1\nmemory = \"1MiB\"\n" + guest, 2, "so little memory", "128MiB");
  expect_wrong("order = 1\ndeadline = \"soon\"\n" + guest, 2, "deadline", "2h30min");
  expect_wrong("order = 1\n[storage]\njob = 1\n" + guest, 3, "\"job\"", "jobs");
  expect_wrong("order = 1\n[slurm]\nqueue = 1\n" + guest, 3, "\"queue\"", "options, program");
  expect_wrong("order = 1\n" + guest + "gvie = \"/\"\n", 5, "\"gvie\" is not known for grow",
               "give");
  expect_wrong("order = 1\n" + guest + "json = true\n", 5, "\"json\" is not known", "allowed");
  expect_wrong("order = 1\n" + guest + "dry_run = true\n", 5, "not known", "allowed");
  expect_wrong("order = 1\n" + guest + "to = [\"1GiB\", \"2GiB\"]\n", 5, "one value", "give one");
  expect_wrong("order = 1\n" + guest + "allow_move = \"yes\"\n", 5, "switch", "true or false");
  expect_wrong("order = 1\n[[guest]]\ndisks = \"heath.img\"\n", 2, "what is to be done", "grow");
  expect_wrong("order = 1\n[[guest]]\nchange = \"mend\"\ndisks = \"heath.img\"\n", 3, "\"mend\"",
               "grow");
  expect_wrong("order = 1\n[[guest]]\nchange = \"grow\"\n", 2, "either disks or each", "pattern");
  expect_wrong("order = 1\n[[guest]]\nchange = \"grow\"\ndisks = \"moor.img\"\n", 4, "moor.img",
               "look from");
  expect_wrong("order = 1\n[[guest]]\nchange = \"grow\"\neach = \"moor/*\"\n", 4, "pattern",
               "look from");
  expect_wrong("order = 1\n" + guest + "name = \"../x\"\n", 5, "../x", "letters");
  expect_wrong("order = 1\n" + guest + guest, 5, "heath is there already (line 2)", "another name");
  expect_wrong("order = 1\n" + guest + guest + "name = \"twin\"\n", 5, "heath.img belongs to heath",
               "once");
  expect_wrong("order = 1\n[[guest]]\nchange = \"recast\"\ndisks = \"heath.img\"\n", 2,
               "recast needs", "new =");
  expect_wrong("order = 1\n[defaults]\ndisks = \"heath.img\"\n" + guest, 3,
               "no place in [defaults]", "guest");
}

TEST_F(OrderTest, DefaultsAreTakenByThoseWhoKnowThem) {
  const Order order = read(
      "order = 1\n[defaults]\ngive = \"/\"\n[[guest]]\nchange = \"audit\"\ndisks = \"heath.img\"\n"
      "[[guest]]\nchange = \"grow\"\ndisks = \"bog.img\"\n");
  EXPECT_EQ(order.tasks[0].arguments, Words{"heath.img"});
  EXPECT_EQ(order.tasks[1].arguments, (Words{"bog.img", "--give", "/"}));
  expect_wrong(
      "order = 1\n[defaults]\ngvie = \"/\"\n[[guest]]\nchange = \"grow\"\ndisks = \"bog.img\"\n", 3,
      "gvie", "give");
}

// What was planned is recognised when it has come true, and when it has not.
TEST(TaskStands, TellsBeforeFromAfter) {
  const TempFolder folder;
  for (const char* name : {"heather", "nestcam", "fieldstation", "mbr-extended"}) {
    const std::string path = unpack_sample(name, folder / (std::string(name) + ".img"));
    MemoryStore image = load(path);
    const Guest guest({{path, &image}});
    GrowRequest grow;
    grow.images = {path};
    grow.by = 256_MiB;
    grow.gives.push_back(parse_give("/"));
    grow.allow_move = true;
    const auto goals = goals_of(plan_growth(guest, grow));
    ASSERT_GE(goals.size(), 2U) << name;
    const std::vector<LayerSize> before = layer_sizes(guest);
    EXPECT_EQ(run_state(goals, before), RunState::before) << name;
    std::vector<LayerSize> after = before;
    for (LayerSize& size : after)
      for (const auto& goal : goals)
        if (size.name == goal.layer) size.size = Bytes(goal.to);
    EXPECT_EQ(run_state(goals, after), RunState::after) << name;
    for (const auto& goal : goals)
      EXPECT_TRUE(std::any_of(before.begin(), before.end(),
                              [&](const LayerSize& size) { return size.name == goal.layer; }))
          << name << ": no layer is called " << goal.layer;
    after.front().size = before.front().size;
    for (LayerSize& size : after)
      if (size.name == goals.back().layer) size.size = Bytes(goals.back().to - 4096);
    EXPECT_EQ(run_state(goals, after), RunState::neither) << name;
  }
}

TEST(TaskState, IsReadAsItWasWritten) {
  const TempFolder folder;
  Order order;
  order.report = folder / "out";
  Task task;
  task.name = "heath";
  EXPECT_FALSE(read_state(order, task));
  TaskState state;
  state.kind = TaskState::Kind::refused;
  state.arguments = {"a", "\xff b"};
  state.goals = {{"disk", 1, 2}};
  state.message = "why \"not\"";
  state.status = 3;
  state.runs = 4;
  write_state(order, task, state);
  const auto read = read_state(order, task);
  ASSERT_TRUE(read);
  EXPECT_EQ(read->kind, TaskState::Kind::refused);
  EXPECT_EQ(read->message, "why \"not\"");
  EXPECT_EQ(read->goals.size(), 1U);
  EXPECT_EQ(read->runs, 4);
  write_file(folder / "out/guests/heath/task.json", R"({"schema": "juneheath-task/1"})");
  EXPECT_THROW(read_state(order, task), Error);
  write_file(folder / "out/guests/heath/task.json", "{");
  EXPECT_THROW(read_state(order, task), Error) << "or the change would be made twice";
}

// Names of layers with several disks, too.
TEST(TaskStands, KnowsTheLayersOfSeveralDisks) {
  const TempFolder folder;
  unpack_sample("two-disk-a", folder / "a.img");
  unpack_sample("two-disk-b", folder / "b.img");
  MemoryStore a = load(folder / "a.img");
  MemoryStore b = load(folder / "b.img");
  const Guest guest({{folder / "a.img", &a}, {folder / "b.img", &b}});
  GrowRequest grow;
  grow.images = {folder / "a.img", folder / "b.img"};
  grow.by = 256_MiB;
  grow.disk = 1;
  grow.disk_chosen = true;
  grow.gives.push_back(parse_give("/"));
  const auto goals = goals_of(plan_growth(guest, grow));
  const std::vector<LayerSize> rows = layer_sizes(guest);
  EXPECT_GE(goals.size(), 3U);
  for (const auto& goal : goals)
    EXPECT_TRUE(std::any_of(rows.begin(), rows.end(),
                            [&](const LayerSize& size) { return size.name == goal.layer; }))
        << "no layer is called " << goal.layer;
}

TEST(Results, TheGravestStatusCounts) {
  const auto of = [](std::vector<std::pair<TaskState::Kind, int>> states) {
    std::vector<TaskResult> results;
    for (const auto& [kind, status] : states) {
      TaskResult result;
      result.state.kind = kind;
      result.state.status = status;
      results.push_back(result);
    }
    return status_of_all(results);
  };
  using Kind = TaskState::Kind;
  EXPECT_EQ(of({{Kind::done, 0}, {Kind::done, 0}}), 0);
  EXPECT_EQ(of({{Kind::done, 0}, {Kind::waiting, 0}}), 3);
  EXPECT_EQ(of({{Kind::refused, 3}, {Kind::failed, 4}}), 4);
  EXPECT_EQ(of({{Kind::failed, 4}, {Kind::failed, 5}}), 5);
  EXPECT_EQ(of({{Kind::begun, 0}}), 5);
  EXPECT_EQ(of({{Kind::failed, 137}, {Kind::done, 0}}), 1);
}

TEST(Csv, QuotesWhatNeedsIt) {
  EXPECT_EQ(csv_line({"a", "b,c", "d\"e", "f\ng", "=1+1", ""}),
            "a,\"b,c\",\"d\"\"e\",\"f\ng\",'=1+1,\r\n");
}

TEST(Patterns, FindFilesAndNoLedgers) {
  const TempFolder folder;
  files::create_directories(folder / "odd [x]");
  for (const char* name : {"odd [x]/b.img", "odd [x]/a.img", "odd [x]/a.img.juneheath"})
    write_file(folder / name, "x");
  EXPECT_EQ(files_matching(folder / "odd [x]", "*"), (Words{"a.img", "b.img"}));
  EXPECT_EQ(files_matching(folder / "odd [x]", "[b-z].img"), Words{"b.img"});
  EXPECT_TRUE(files_matching(folder / "odd [x]", "c.img").empty());
  EXPECT_EQ(safe_name("../a b/c"), "a-b-c");
}

}  // namespace
}  // namespace jh::test
