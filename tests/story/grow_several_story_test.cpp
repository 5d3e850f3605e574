// Several targets in one growth, wherever they lie; and targets that grow because what stands
// behind them moves to the disk's end. In three forms, with outside judges, and undone.
#include "support/guest_story.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct Story {
  const char* name;
  const char* sample;
  Words options;
  std::vector<const char*> said;               // of the plan
  std::map<std::string, std::uint64_t> grown;  // place → MiB it has afterwards
};

void PrintTo(const Story& story, std::ostream* out) { *out << story.name; }

class GrowSeveral : public GuestStory,
                    public testing::WithParamInterface<std::tuple<Story, const char*>> {
 protected:
  // The disk as a raw file, whatever form it is kept in.
  std::string as_raw(const std::string& image, const std::string& name) {
    return format() == "raw" ? image : recast_raw(image, folder_ / (name + ".raw"));
  }
  const Story& story() const { return std::get<0>(GetParam()); }
  std::string format() const { return std::get<1>(GetParam()); }

  // By the survey: the size of each place, of partitions and volumes.
  static std::map<std::string, std::uint64_t> sizes(const std::string& image) {
    std::map<std::string, std::uint64_t> found;
    const auto survey = survey_of({image});
    for (const auto& place : survey["disks"][0]["places"]) found[place["name"]] = place["size"];
    for (const auto& group : survey["groups"])
      for (const auto& place : group["volumes"]) found[place["name"]] = place["size"];
    return found;
  }
  // Type, identity and label of each partition: they go along.
  static std::string identities(const std::string& image) {
    std::string all;
    const auto survey = survey_of({image});
    for (const auto& place : survey["disks"][0]["places"]) {
      const auto& partition = place["partition"];
      all += fmt::format("{} {} {} {} {} {} {}\n", place["name"].get<std::string>(),
                         partition["type"].get<std::string>(), partition["uuid"].get<std::string>(),
                         partition["label"].get<std::string>(),
                         place["content"]["uuid"].get<std::string>(),
                         place["content"]["label"].get<std::string>(),
                         place["content"]["name"].get<std::string>());
    }
    return all;
  }
};

TEST_P(GrowSeveral, IsJudgedAndUndone) {
  SKIP_UNLESS_TAKEN(4)
  const std::string sample = unpack_sample(story().sample, folder_ / "sample.img");
  const std::string image = in_form(sample, format());
  if (image != sample) files::remove(sample);
  const std::string original = folder_ / "original";
  files::copy_file(image, original);
  const std::string raw_before = as_raw(image, "before");
  const auto before = trees({raw_before});
  const std::string names = identities(image);
  const std::uint64_t disk_before = files::file_size(raw_before);

  const ProgramResult grown = run_on("grow", {image}, story().options);
  ASSERT_EQ(grown.status, 0) << grown.out << grown.err;
  for (const char* words : story().said) EXPECT_TRUE(grown.said(words)) << words << grown.out;
  expect_audit_clean({image});
  const std::string raw_after = as_raw(image, "after");
  expect_same({raw_after}, before);
  EXPECT_EQ(identities(image), names);
  const auto now = sizes(image);
  for (const auto& [place, size] : story().grown)
    EXPECT_EQ(now.at(place) / mib, size) << place << grown.out;
  // An archiver's reading of the table agrees, and nothing lies behind the disk's end.
  const std::string kind = std::string(story().sample).starts_with("mbr") ? "MBR" : "GPT";
  const auto listed = listed_partitions(raw_after, kind);
  EXPECT_GE(listed.size(), 2U);
  for (const auto& [start, length] : listed) {
    EXPECT_LE(start + length, files::file_size(raw_after));
    EXPECT_GT(files::file_size(raw_after), disk_before);
  }

  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), file_digest(original));
}

const Story stories[] = {
    {"LogicalSwapBehindRoot",
     "mbr-extended",
     {"--by", "128MiB", "--give", "/", "--allow-move"},
     {"p5          move it 128 MiB towards the end, without what it has free",
      "p6          move it 128 MiB towards the end, with all that is in it",
      "the extended partition moves along", "p5 gets a new start sector"},
     {{"p1", 428}, {"p5", 64}, {"p6", 81}}},
    {"LogicalBehindLogical",
     "mbr-extended",
     {"--by", "128MiB", "--give", "swap=100MiB", "--give", "/srv", "--allow-move"},
     {"p6          move it 100 MiB towards the end, with all that is in it",
      "the extended partition follows, with its list"},
     {{"p1", 300}, {"p5", 164}, {"p6", 109}}},
    {"SwapAndRescueBehindRoot",
     "swap-behind",
     {"--by", "100MiB", "--give", "/", "--allow-move"},
     {"p4          move it 105 MiB towards the end, with all that is in it",
      "p3          move it 105 MiB towards the end, without what it has free"},
     {{"p2", 169}, {"p3", 24}, {"p4", 16}}},
    // What is not the last but has the last room moves alone.
    {"OnlyAsManyMoveAsMust",
     "swap-behind",
     {"--by", "100MiB", "--give", "swap=30MiB", "--give", "/=10MiB", "--allow-move"},
     {"p2          move its end outwards", "p3          move its end outwards"},
     {{"p2", 74}, {"p3", 54}, {"p4", 16}}},
    {"ThreePartitionsShareTheRoom",
     "swap-behind",
     {"--by", "100MiB", "--give", "/=40MiB", "--give", "swap=50%", "--give", "p4", "--allow-move"},
     {"NTFS on p4  add "},
     {{"p2", 104}, {"p3", 56}, {"p4", 48}}},
    {"TwoGroups",
     "two-groups",
     {"--by", "256MiB", "--give", "first/pieces=20MiB", "--give", "late.group/root=rest"},
     {"group first: 36 MiB it had free; 16 MiB stay free in it",
      "group late.group: 268 MiB are new to it, 16 MiB it had free; none stay free in it"},
     {{"first/pieces", 44}, {"late.group/root", 364}, {"p2", 366}}},
    {"TwoGroupsOneMovesTheOther",
     "two-groups",
     {"--by", "256MiB", "--give", "first/pieces=100MiB", "--give", "late.group/root=rest",
      "--allow-move"},
     {"p2                       move it 64 MiB towards the end, with all that is in it"},
     {{"first/pieces", 124}, {"late.group/root", 300}, {"p1", 128}}},
    {"PartitionAndVolume",
     "fieldstation",
     {"--by", "64MiB", "--give", "/boot=50%", "--give", "/home", "--allow-move"},
     {"p3                          move it 32 MiB towards the end, with all that is in it"},
     {{"p2", 128}, {"p3", 701}, {"field-station/home", 280}}},
    {"VolumesOfOneGroup",
     "fieldstation",
     {"--by", "64MiB", "--give", "/home=10MiB", "--give", "swap=4MiB", "--give", "/var/log=25%",
      "--give", "/"},
     {},
     {{"field-station/home", 152}, {"field-station/swap_1", 64}}},
};

INSTANTIATE_TEST_SUITE_P(All, GrowSeveral,
                         testing::Combine(testing::ValuesIn(stories),
                                          testing::Values("raw", "qcow2", "vhdx")),
                         [](const auto& each) {
                           return std::string(std::get<0>(each.param).name) + "_" +
                                  std::get<1>(each.param);
                         });

class GrowRefused : public GuestStory {
 protected:
  ProgramResult refused(const std::string& sample, const Words& options, int status) {
    const std::string image = folder_ / (sample + ".img");
    files::remove(image);
    unpack_sample(sample, image);
    const std::uint32_t digest = file_digest(image);
    const ProgramResult outcome = run_on("grow", {image}, options);
    EXPECT_EQ(outcome.status, status) << outcome.out << outcome.err;
    EXPECT_EQ(file_digest(image), digest);
    EXPECT_FALSE(files::exists(image + ".juneheath"));
    image_ = image;
    return outcome;
  }
  std::string image_;
};

// The way that helps is the first that is offered; and it works as it is written.
TEST_F(GrowRefused, OffersToMoveWhatIsInTheWay) {
  const ProgramResult blocked = refused("swap-behind", {"--by", "100MiB", "--give", "/"}, 3);
  EXPECT_TRUE(blocked.said("p3 (swap) stands directly behind it")) << blocked.err;
  const std::string command = "juneheath grow " + image_ + " --by 100MiB --allow-move --give /";
  const std::size_t at = blocked.err.find("next:");
  EXPECT_EQ(blocked.err.find("juneheath", at), blocked.err.find(command)) << blocked.err;
  EXPECT_TRUE(juneheath({"survey", image_})
                  .said("/ cannot grow in place: p3 (swap) stands behind it; with --allow-move it "
                        "moves to the end"));
  EXPECT_EQ(run_on("grow", {image_}, {"--by", "100MiB", "--allow-move", "--give", "/"}).status, 0);
}

// On a full disk the command makes it larger as well.
TEST_F(GrowRefused, OffersALargerDiskWithIt) {
  const ProgramResult blocked = refused("mbr-extended", {"--give", "/"}, 3);
  EXPECT_TRUE(blocked.said("--by 10GiB --allow-move --give /")) << blocked.err;
}

TEST_F(GrowRefused, WhatIsNotThere) {
  // The numbers are said.
  const ProgramResult much =
      refused("swap-behind",
              {"--by", "100MiB", "--give", "/=80MiB", "--give", "swap=40MiB", "--allow-move"}, 3);
  EXPECT_TRUE(much.said("swap cannot get 40 MiB")) << much.err;
  EXPECT_TRUE(much.said("there are only 25 MiB")) << much.err;
  EXPECT_EQ(
      refused("swap-behind", {"--by", "9MiB", "--give", "/", "--give", "swap", "--allow-move"}, 2)
          .status,
      2);
  EXPECT_EQ(refused("two-groups",
                    {"--by", "64MiB", "--new-partition", "--give", "/srv/rings", "--give", "/"}, 6)
                .status,
            6);
}

// A suspended guest must find everything where it was.
TEST_F(GrowRefused, WhatDoesNotMove) {
  const std::string image = unpack_sample("swap-behind", folder_ / "guest.img");
  poke(image, 66 * mib + 4086, std::string("S1SUSPEND\0", 10));
  const std::uint32_t digest = file_digest(image);
  const ProgramResult suspended =
      run_on("grow", {image}, {"--by", "50MiB", "--give", "/", "--allow-move"});
  EXPECT_EQ(suspended.status, 3);
  EXPECT_TRUE(suspended.said("the guest is suspended")) << suspended.err;
  EXPECT_TRUE(suspended.said("suspended")) << suspended.err;
  // Nobody knows what this is.
  poke(image, 66 * mib, std::string(8192, 'q'));
  const ProgramResult unknown =
      run_on("grow", {image}, {"--by", "50MiB", "--give", "/", "--allow-move"});
  EXPECT_EQ(unknown.status, 3);
  EXPECT_TRUE(unknown.said("it is not known what is in it")) << unknown.err;
  EXPECT_NE(file_digest(image), digest);
  EXPECT_FALSE(files::exists(image + ".juneheath"));
}

}  // namespace
}  // namespace jh::test
