// What a technician stumbles over: sizes without a unit, names as they are pasted, disks that are
// attached and blank, endings that say the form, and commands in messages that do not work.
#include <sys/wait.h>
#include <unistd.h>

#include <regex>

#include "support/guest_story.h"
#include "support/test.h"

namespace jh::test {
namespace {

class FrictionStory : public GuestStory {
 protected:
  std::string sample(const std::string& name) {
    const std::string path = folder_ / (name + ".img");
    files::remove(path);
    unpack_sample(name, path);
    return path;
  }
  // By a shell, as a technician pastes it.
  int paste(const std::string& command) { return paste_as_it_is(command + " --dry-run"); }
  int paste_as_it_is(const std::string& command) {
    const ProgramResult outcome = test::paste(command);
    said_ = outcome.err;
    return outcome.status;
  }
  std::string said_;  // by what was pasted last
};

TEST_F(FrictionStory, SizesSayWhatTheyMean) {
  const std::string image = sample("heather");
  expect_status(2, {"grow", image, "--to", "20000"}, {"20000MiB"});
  expect_status(2, {"grow", image, "--by", "500"}, {"500MiB"});
  expect_status(2, {"grow", image, "--by", "1GiB", "--give", "/=512"}, {"512MiB"});
  expect_status(2, {"grow", image, "--to", "+1GiB"}, {"--by 1GiB"});
  expect_status(2, {"grow", image, "--by", "1GiB", "--give", "/=0"}, {"an amount of nothing"});
  expect_status(0, {"grow", image, "--by", "+64MiB", "--give", "/=+64MiB", "--dry-run"},
                {"256 MiB"});
  expect_status(3, {"shrink", image, "--to", "300MB", "--yes"}, {"--to 300MB"});
}

TEST_F(FrictionStory, VolumesHaveTheNamesThatTheirGuestsGiveThem) {
  const std::string image = sample("fieldstation");
  const Words start{"grow", image, "--by", "64MiB", "--dry-run", "--give"};
  for (const char* name : {"/home", "field-station/home", "/dev/field-station/home",
                           "/dev/mapper/field--station-home", "home"}) {
    Words words = start;
    words.emplace_back(name);
    expect_status(0, words, {"/home"});
  }
  Words group = start;
  group.emplace_back("field-station");
  expect_status(0, group, {"field-station"});
}

TEST_F(FrictionStory, HelpIsNear) {
  const std::string help = juneheath({"grow", "--help"}).out;
  EXPECT_EQ(juneheath({"help", "grow"}).out, help);
  expect_status(2, {"gorw", "x"}, {"juneheath grow"});
  expect_status(2, {"help", "shirnk"}, {"juneheath shrink"});
  expect_status(2, {"grow", "x", "--alow-mvoe"}, {"--allow-move"});
  EXPECT_FALSE(juneheath({"quite-another-word"}).said("perhaps"));
}

TEST_F(FrictionStory, AFolderThatMayNotBeReadIsNoBug) {
  const std::string image = sample("heather");
  write_file(folder_ / "a file", "");
  // What stands where a folder should be answers as one that may not be read.
  const ProgramResult outcome =
      juneheath({"survey", image}, {{"HOME", folder_ / "a file/home"}, {"XDG_CONFIG_HOME", ""}});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
}

// ---- The form is what the ending says.

TEST_F(FrictionStory, EndingsSayTheFormOfWhatIsMade) {
  const std::string image = sample("heather");
  const auto format = [&](const std::string& path) {
    return survey_of({path})["disks"][0]["form"].get<std::string>();
  };
  succeeds({"grow", image, "--by", "64MiB", "--into", folder_ / "a.vhdx"});
  EXPECT_EQ(format(folder_ / "a.vhdx"), "VHDX");
  succeeds({"compact", image, "--into", folder_ / "a.qcow2"});
  EXPECT_EQ(format(folder_ / "a.qcow2"), "qcow2");
  succeeds({"grow", image, "--by", "64MiB", "--into", folder_ / "b", "--form", "vdi"});
  EXPECT_EQ(format(folder_ / "b"), "VDI");
  const std::string group = sample("fieldstation");
  ASSERT_EQ(juneheath({"grow", group, "--add-disk", folder_ / "more.vmdk=256MiB", "--give", "/home",
                       "--yes"})
                .status,
            0);
  EXPECT_EQ(format(folder_ / "more.vmdk"), "VMDK");
  expect_audit_clean({group, folder_ / "more.vmdk"});
}

// ---- Commands in refusals: each of them works when it is pasted.

TEST_F(FrictionStory, CommandsInRefusalsWorkWhenPasted) {
  std::size_t pasted = 0;
  for (const char* name : {"heather", "nestcam", "fieldstation", "dispatch", "moorhost", "moss"}) {
    const std::string image = sample(name);
    for (const Words& asked :
         std::initializer_list<Words>{{"grow", image},
                                      {"grow", image, "--to", "20000"},
                                      {"grow", image, "--to", "100MiB", "--yes"},
                                      {"grow", image, "--by", "+1"},
                                      {"grow", image, "--give", "/"},
                                      {"grow", image, "--give", "/=20GiB", "--by", "1GiB"},
                                      {"grow", image, "--give", "/bot", "--by", "1GiB"},
                                      {"shrink", image},
                                      {"shrink", image, "--to", "20MiB", "--yes"},
                                      {"shrink", image, "--to", "90GiB", "--yes"},
                                      {"shrink", image, "--take", "/=500GiB", "--yes"},
                                      {"compact", image},
                                      {"undo", image, "--yes"},
                                      {"recover", image}}) {
      const std::uint32_t digest = file_digest(image);
      Words words = asked;
      if (asked.size() == 2 && asked[0] == "grow") words.emplace_back("--dry-run");
      if (asked[0] == "compact") words.emplace_back("--dry-run");
      const ProgramResult outcome = juneheath(words);
      if (outcome.status == 0) continue;
      EXPECT_EQ(file_digest(image), digest);
      for (const CommandInText& command : commands_in(outcome.err)) {
        std::string line = command.line;
        SCOPED_TRACE(fmt::format("{} {}: {}", asked[0], asked.back(), line));
        if (command.verb == "recast")
          line = std::regex_replace(line, std::regex(" NEW"), " " + image + ".new");
        const int status = command.may_write() ? paste(line) : paste_as_it_is(line);
        // What it lacks to be told may be a choice.
        EXPECT_TRUE(status == 0 || said_.find("say which") != std::string::npos) << said_;
        ++pasted;
      }
    }
    files::remove(image);
  }
  EXPECT_GT(pasted, 10U);
}

// ---- A blank disk that is attached already.

TEST_F(FrictionStory, ABlankDiskGoesToTheGroup) {
  for (const char* name : {"blank.img", "blank.vdi"}) {
    for (const bool asked : {false, true}) {
      SCOPED_TRACE(name);
      const std::string image = sample("fieldstation");
      const std::string blank = folder_ / name;
      files::remove(folder_ / "zeros.raw");
      make_sparse_file(folder_ / "zeros.raw", 256U << 20);
      if (std::string(name) == "blank.img")
        files::rename(folder_ / "zeros.raw", blank);
      else
        succeeds({"recast", folder_ / "zeros.raw", blank, "--quiet"});
      const std::uint32_t old_blank = file_digest(blank);
      const std::uint32_t old_image = file_digest(image);
      Words words{"grow", image};
      if (asked) words.emplace_back("--add-disk");
      words.insert(words.end(), {blank, "--give", "/home", "--yes"});
      expect_status(0, words);
      expect_audit_clean({image, blank});
      const auto survey = survey_of({image, blank});
      EXPECT_EQ(survey["groups"][0]["physical_volumes"].size(), 2U);
      expect_status(0, {"undo", image, blank, "--yes"});
      EXPECT_EQ(file_digest(image), old_image);
      EXPECT_EQ(file_digest(blank), old_blank);
      files::remove(blank);
    }
  }
}

TEST_F(FrictionStory, ADiskThatOnlyLooksBlankIsNotTaken) {
  const std::string image = sample("fieldstation");
  const std::string blank = folder_ / "blank.img";
  make_sparse_file(blank, 256U << 20);
  poke(blank, 200U << 20, "a ring");
  const std::uint32_t before = file_digest(blank);
  expect_status(3, {"grow", image, "--add-disk", blank, "--give", "/home", "--yes"}, {"not blank"});
  juneheath({"grow", image, blank, "--give", "/home=4MiB", "--yes"});
  EXPECT_EQ(file_digest(blank), before);
}

// ---- The way down.

TEST_F(FrictionStory, TheWayDownLeavesRoomWhereItIsAsked) {
  const std::string image = sample("heather");
  const auto size_after = [&](const Words& more) {
    Words words = Words{"shrink", image, "--dry-run", "--json"} + more;
    const ProgramResult outcome = expect_status(0, words);
    return nlohmann::json::parse(outcome.out)["plan"]["disks"][0]["to"].get<std::uint64_t>();
  };
  const std::uint64_t floor = size_after({"--to", "floor"});
  EXPECT_EQ(size_after({"--to", "floor+50MiB"}), floor + (50U << 20));
  expect_status(0, {"shrink", image, "--to", "floor", "--dry-run"}, {"less than 5%"});
  succeeds({"grow", image, "--by", "96MiB", "--give", "nothing", "--yes"});
  EXPECT_EQ(size_after({"--take", "nothing"}), 192U << 20);
  expect_status(2, {"shrink", image, "--take", "nothing", "--take", "/", "--yes"},
                {"no other target"});
  const std::string moves = sample("swap-behind");
  expect_status(0, {"shrink", moves, "--to", "floor", "--dry-run"}, {"--allow-move"});
}

// Two physical volumes of one group on one disk: the floor that is shown is reached.
TEST_F(FrictionStory, TheFloorOfTwoPhysicalVolumesOnOneDiskIsReached) {
  const std::string image = sample("fieldstation");
  ASSERT_EQ(
      juneheath({"grow", image, "--by", "256MiB", "--new-partition", "--give", "/home", "--yes"})
          .status,
      0);
  const auto before = trees({image});
  expect_status(0, {"shrink", image, "--to", "floor", "--allow-move", "--yes"});
  EXPECT_LT(files::file_size(image), 600U << 20);
  expect_audit_clean({image});
  expect_same({image}, before);
}

// ---- Hundreds of pieces.

TEST_F(FrictionStory, ADiskInManyPiecesGrows) {
  const std::string image = sample("heather");
  ASSERT_EQ(juneheath({"grow", image, "--to", "130GiB", "--give", "nothing", "--no-undo", "--yes"})
                .status,
            0);
  const std::string pieces = folder_ / "p.vmdk";
  succeeds({"recast", image, pieces, "--pieces", "--quiet"});
  expect_status(0, {"grow", pieces, "--by", "4GiB", "--give", "nothing", "--yes"});
  expect_status(0, {"audit", pieces});
  expect_status(0, {"undo", pieces, "--yes"});
}

// ---- What is advised can be done.

TEST_F(FrictionStory, EveryCommandOfASurveyWorks) {
  std::size_t pasted = 0;
  const std::vector<Words> guests{{"heather"},
                                  {"fieldstation"},
                                  {"nestcam"},
                                  {"dispatch"},
                                  {"moorhost"},
                                  {"moss"},
                                  {"mbr-extended"},
                                  {"mbr-ntfs"},
                                  {"mbr-boot-lvm"},
                                  {"swap-behind"},
                                  {"two-groups"},
                                  {"whole-disk-pv"},
                                  {"ntfs-asleep"},
                                  {"dirty-ext4"},
                                  {"dirty-xfs"},
                                  {"gpt-ntfs-recovery"},
                                  {"two-disk-a", "two-disk-b"}};
  for (const Words& names : guests) {
    Words words{"survey", "--json"};
    for (const std::string& name : names) words.push_back(sample(name));
    const auto survey = nlohmann::json::parse(juneheath(words).out);
    for (const auto& advice : survey["advice"]) {
      const std::string command = advice["command"];
      if (!command.starts_with("juneheath grow")) continue;
      EXPECT_EQ(paste(command), 0) << command;
      ++pasted;
    }
    for (const std::string& name : names) files::remove(folder_ / (name + ".img"));
  }
  EXPECT_GT(pasted, 12U);
}

}  // namespace
}  // namespace jh::test
