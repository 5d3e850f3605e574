// The public classes, used as another program would use them.
#include <juneheath/juneheath.h>

#include "support/test.h"

namespace jh::test {
namespace {

class Library : public testing::Test {
 protected:
  void SetUp() override {
    unpack_sample("heather", image_);
    options_.ledger_folder = folder_ / "ledgers";
  }
  juneheath::Guest open(juneheath::Purpose purpose) {
    options_.purpose = purpose;
    return juneheath::Guest({image_}, options_);
  }
  static juneheath::Growth by_a_gibibyte() {
    juneheath::Growth growth;
    growth.by = 1ULL << 30;
    growth.give = {"/"};
    return growth;
  }

  const TempFolder folder_;
  const std::string image_ = folder_ / "heather.img";
  juneheath::OpenOptions options_;
};

class Stopper : public juneheath::Observer {
 public:
  void begin(const std::string& what, std::uint64_t) override { seen.push_back(what); }
  bool advance(std::uint64_t) override { return ++calls < most; }
  int most = 1 << 30;
  int calls = 0;
  Words seen;
};

template <class Work>
juneheath::Error error_of(Work work) {
  try {
    work();
  } catch (const juneheath::Error& error) {
    return error;
  }
  return {juneheath::Status::done, "nothing was thrown", {}, {}, {}, juneheath::Left::unsaid};
}

TEST_F(Library, LooksPlansCarriesOutAndTakesBack) {
  const std::uint32_t old = file_digest(image_);
  const std::uintmax_t length = files::file_size(image_);
  {
    const juneheath::Guest guest = open(juneheath::Purpose::change);
    EXPECT_EQ(guest.images(), Words{image_});
    EXPECT_FALSE(guest.hostname().empty());
    EXPECT_THAT(guest.survey_json(), HasSubstr("\"schema\": \"juneheath/1\""));
    const juneheath::Plan plan(guest, by_a_gibibyte());
    EXPECT_EQ(plan.target(), "/");
    ASSERT_FALSE(plan.steps().empty());
    EXPECT_EQ(plan.steps().front().to - plan.steps().front().from, 1ULL << 30);
    EXPECT_GT(plan.bytes_to_write(), 0U);
    Stopper watcher;
    juneheath::ChangeOptions how;
    how.observer = &watcher;
    const juneheath::Change change = carry_out(guest, plan, how);
    EXPECT_FALSE(change.evidence.empty());
    EXPECT_GE(watcher.seen.size(), plan.steps().size());
    const juneheath::Guest now({image_}, {});
    juneheath::Story story;
    story.before = &guest;
    story.plan = &plan;
    story.change = &change;
    story.after = &now;
    write_report(story, folder_ / "page");
    EXPECT_TRUE(files::exists(folder_ / "page/report.html"));
    EXPECT_TRUE(files::exists(folder_ / "page/layout.png"));
  }
  EXPECT_EQ(files::file_size(image_), length + (1ULL << 30));
  EXPECT_TRUE(juneheath::recover({image_}, options_).empty()) << "nothing was interrupted";
  juneheath::undo({image_}, options_);
  EXPECT_EQ(file_digest(image_), old);
}

TEST_F(Library, ShrinksToTheFloor) {
  const juneheath::Guest guest = open(juneheath::Purpose::change);
  juneheath::Shrinking shrinking;
  shrinking.to_floor = true;
  const juneheath::Plan plan(guest, shrinking);
  carry_out(guest, plan);
  EXPECT_LT(juneheath::Guest({image_}, {}).layers().front().size, guest.layers().front().size);
}

TEST_F(Library, StopsWhenAskedWithNothingChanged) {
  const std::uint32_t old = file_digest(image_);
  const juneheath::Guest guest = open(juneheath::Purpose::change);
  const juneheath::Plan plan(guest, by_a_gibibyte());
  Stopper stopper;
  stopper.most = 1;
  juneheath::ChangeOptions how;
  how.observer = &stopper;
  const juneheath::Error error = error_of([&] { carry_out(guest, plan, how); });
  EXPECT_EQ(error.status(), juneheath::Status::refused);
  EXPECT_EQ(error.left(), juneheath::Left::unchanged);
  EXPECT_EQ(file_digest(image_), old);
}

TEST_F(Library, SaysWhatStandsInTheWayAsData) {
  const juneheath::Guest looked = open(juneheath::Purpose::look);
  const juneheath::Plan plan(looked, by_a_gibibyte());
  EXPECT_EQ(error_of([&] { carry_out(looked, plan); }).status(), juneheath::Status::usage);
  const juneheath::Guest other = open(juneheath::Purpose::change);
  EXPECT_EQ(error_of([&] { carry_out(other, plan); }).status(), juneheath::Status::usage);
  // Somebody has it: refused for the second one.
  EXPECT_EQ(error_of([&] { open(juneheath::Purpose::change); }).status(),
            juneheath::Status::refused);
  juneheath::Growth growth = by_a_gibibyte();
  growth.to = 1;
  EXPECT_EQ(error_of([&] { juneheath::Plan(other, growth); }).status(), juneheath::Status::usage);
  growth = {};
  growth.to = 1 << 20;
  const juneheath::Error error = error_of([&] { juneheath::Plan(other, growth); });
  EXPECT_EQ(error.status(), juneheath::Status::refused);
  ASSERT_FALSE(error.suggestions().empty());
  EXPECT_EQ(error.suggestions().front().command, "survey");
  EXPECT_EQ(error.suggestions().front().images, Words{image_});
  EXPECT_THAT(error.next(), HasSubstr("juneheath survey " + image_));
  EXPECT_EQ(error_of([&] { juneheath::undo({image_}, options_); }).status(),
            juneheath::Status::refused);
  EXPECT_EQ(error_of([&] { juneheath::Guest({}, {}); }).status(), juneheath::Status::usage);
}

}  // namespace
}  // namespace jh::test
