// The program's manners: help, version, JSON, the demo.
#include "support/program.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "support/judges.h"
#include "support/samples.h"

namespace jh::test {
namespace {

TEST(Program, HelpFitsAScreen) {
  const auto lines = [](const std::string& text) {
    return std::count(text.begin(), text.end(), '\n');
  };
  const Outcome help = juneheath({"--help"});
  EXPECT_EQ(help.status, 0);
  EXPECT_LE(lines(help.out), 40);
  for (const char* command : {"survey", "grow", "audit", "undo", "recover", "demo"}) {
    EXPECT_TRUE(help.said(command));
    const Outcome own = juneheath({command, "--help"});
    EXPECT_EQ(own.status, 0);
    EXPECT_LE(lines(own.out), 40) << command;
    EXPECT_TRUE(own.said("juneheath " + std::string(command)));
  }
  EXPECT_TRUE(juneheath({"--version"}).said("juneheath 0."));
}

TEST(Program, ErrorsAreJsonToo) {
  const Outcome outcome = juneheath({"survey", "/nowhere.img", "--json"});
  EXPECT_EQ(outcome.status, 3);
  const auto document = nlohmann::json::parse(outcome.out);
  EXPECT_EQ(document["error"]["status"], 3);
  EXPECT_EQ(document["error"]["where"], "/nowhere.img");
}

TEST(Program, TheDemoRuns) {
  const TempFolder folder;
  const Outcome demo = juneheath({"demo", folder / "station"});
  ASSERT_EQ(demo.status, 0) << demo.err;
  for (const char* command :
       {"$ juneheath survey heather.img", "$ juneheath grow heather.img --to 1GiB --dry-run",
        "$ juneheath undo heather.img --yes", "$ juneheath grow nestcam.img --by 1GiB --give /",
        "$ juneheath audit nestcam.img", "No damage found."})
    EXPECT_TRUE(demo.said(command)) << command;
  EXPECT_EQ(check_ext(folder / "station/nestcam.img", 52428800), "");
  EXPECT_EQ(juneheath({"demo", folder / "station"}).status, 3) << "never overwrites";
}

TEST(Program, DefaultsComeFromTheConfigFile) {
  const TempFolder folder;
  std::filesystem::create_directories(folder / "juneheath");
  write_file(folder / "juneheath/juneheath.conf", "color = sometimes\n");
  const Outcome outcome =
      juneheath({"survey", "/nowhere.img"}, {{"XDG_CONFIG_HOME", folder.path().string()}});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_TRUE(outcome.said("sometimes"));
}

}  // namespace
}  // namespace jh::test
