// The program's manners: help, version, JSON, the demo.
#include "support/test.h"

namespace jh::test {
namespace {

TEST(Program, HelpFitsAScreen) {
  const auto lines = [](const std::string& text) {
    return std::count(text.begin(), text.end(), '\n');
  };
  const ProgramResult help = expect_status(0, {"--help"});
  EXPECT_LE(lines(help.out), 40);
  for (const char* command : {"survey", "grow", "shrink", "compact", "recast", "audit", "undo",
                              "recover", "batch", "config", "demo"}) {
    EXPECT_TRUE(help.said(command));
    const ProgramResult own = expect_status(0, {command, "--help"});
    EXPECT_LE(lines(own.out), 40) << command;
    EXPECT_TRUE(own.said("juneheath " + std::string(command)));
  }
  expect_said({"--version"}, {"juneheath 0."});
}

TEST(Program, ErrorsAreJsonToo) {
  const ProgramResult outcome = expect_status(3, {"survey", "/nowhere.img", "--json"});
  const auto document = nlohmann::json::parse(outcome.out);
  EXPECT_EQ(document["error"]["status"], 3);
  EXPECT_EQ(document["error"]["where"], "/nowhere.img");
}

TEST(Program, TheDemoRuns) {
  const TempFolder folder;
  const ProgramResult demo = succeeds({"demo", folder / "station"});
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
  files::create_directories(folder / "juneheath");
  write_file(folder / "juneheath/juneheath.conf", "color = sometimes\n");
  const ProgramResult outcome =
      juneheath({"survey", "/nowhere.img"}, {{"XDG_CONFIG_HOME", folder.path().string()}});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_TRUE(outcome.said("sometimes"));
}

TEST(Program, ConfigSaysWhereValuesComeFrom) {
  const TempFolder folder;
  files::create_directories(folder / "juneheath");
  write_file(folder / "juneheath/juneheath.conf", "# ours\nproof = full\nprof = full\n");
  const Facts here{{"XDG_CONFIG_HOME", folder.path().string()}};
  const auto document = nlohmann::json::parse(juneheath({"config", "--json"}, here).out);
  EXPECT_EQ(document["there"], true);
  std::map<std::string, nlohmann::json> options;
  for (const auto& option : document["options"]) options[option["option"]] = option;
  EXPECT_EQ(options["proof"]["value"], "full");
  EXPECT_EQ(options["proof"]["from"], folder / "juneheath/juneheath.conf" + ", line 2");
  EXPECT_EQ(options["proof"]["known"], true);
  EXPECT_EQ(options["prof"]["known"], false);
  EXPECT_EQ(options["color"]["value"], "auto");
  EXPECT_EQ(options["color"]["from"], "default");
  const ProgramResult text = juneheath({"config"}, here);
  EXPECT_TRUE(text.said("line 3: no command has such an option")) << text.out;
}

TEST(Program, LogsWhatItDoes) {
  const TempFolder folder;
  const std::string image = folder / "heather.img";
  const std::string log = folder / "log.txt";
  unpack_sample("heather", image);
  expect_status(0, {"grow", image, "--to", "1GiB", "--yes", "--log", log});
  expect_status(3, {"grow", image, "--to", "1MiB", "--yes", "--log", log});
  const std::string text = read_file(log);
  for (const char* words : {"info: juneheath grow", "make the image longer", "sealing",
                            "exit status 0, done", "error: the disk already has", "exit status 3"})
    EXPECT_THAT(text, HasSubstr(words));
  // Where no log can be written nothing is done.
  expect_status(5, {"grow", image, "--by", "1GiB", "--yes", "--log", image + "/log.txt"},
                {"Nothing was changed"});
  EXPECT_EQ(files::file_size(image), 1U << 30);
}

TEST(Program, ColoursAreLeftOutWhereTheyAreNotWanted) {
  const TempFolder folder;
  const std::string image = unpack_sample("heather", folder / "heather.img");
  const auto colours = [&](Words more, const char* terminal_says) {
    Words words = Words{"survey", image} + more;
    return juneheath(words, {{"NO_COLOR", terminal_says}}).out.find('\033') != std::string::npos;
  };
  EXPECT_FALSE(colours({}, ""));
  EXPECT_TRUE(colours({"--color", "always"}, ""));
  EXPECT_TRUE(colours({"--color", "always"}, "1")) << "what is asked for counts";
  EXPECT_FALSE(colours({"--color", "never"}, ""));
}

TEST(Program, OffersWhatFits) {
  const TempFolder folder;
  unpack_sample("fieldstation", folder / "fieldstation.img");
  write_file(folder / "notes.txt", "no image");
  const auto offered = [](Words words) {
    words.insert(words.begin(), "complete");
    std::istringstream lines(juneheath(words).out);
    std::set<std::string> all;
    for (std::string line; std::getline(lines, line);) all.insert(line.substr(0, line.find('\t')));
    return all;
  };
  EXPECT_EQ(offered({"gr"}), std::set<std::string>{"grow"});
  EXPECT_TRUE(offered({"grow", "--al"}).contains("--allow-move"));
  EXPECT_EQ(offered({"grow", folder / ""}), std::set<std::string>{folder / "fieldstation.img"});
  const auto targets = offered({"grow", folder / "fieldstation.img", "--give", ""});
  for (const char* target : {"/", "/var/log", "swap", "field-station/root", "p2", "nothing"})
    EXPECT_TRUE(targets.contains(target)) << target;
  EXPECT_EQ(offered({"grow", folder / "fieldstation.img", "--give", "/va"}),
            std::set<std::string>{"/var/log"});
  EXPECT_TRUE(offered({"recast", "a", "b", "--form", "v"}).contains("vhdx"));
  EXPECT_TRUE(offered({"nonsense", ""}).empty());
  EXPECT_TRUE(offered({"grow", "/nowhere.img", "--give", ""}).empty());
}

}  // namespace
}  // namespace jh::test
