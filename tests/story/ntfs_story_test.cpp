// Guests with NTFS through the built program, in several forms: larger, smaller, more compact, a
// rescue partition out of the way. Judges: a second reader that accounts for every cluster and sums
// every file and stream, and a general archiver.
#include "support/ntfs_accounting.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct NtfsGuest {
  const char* sample;
  const char* target;
  bool rescue_behind;
  const char* format;
};

void PrintTo(const NtfsGuest& guest, std::ostream* out) { *out << guest.sample << guest.format; }

class NtfsStory : public testing::TestWithParam<NtfsGuest> {
 protected:
  void SetUp() override {
    raw_ = unpack_sample(GetParam().sample, folder_ / "raw.img");
    image_ = in_form(raw_, GetParam().format);
    if (image_ != raw_) files::remove(raw_);
  }
  // The disk as a raw image.
  std::string raw() {
    if (image_ == raw_) return raw_;
    files::remove(raw_);
    succeeds({"recast", image_, raw_, "--form", "raw", "--store", "sparse", "--quiet"});
    return raw_;
  }
  nlohmann::json ntfs_places() {
    const auto survey = survey_of({image_});
    nlohmann::json found = nlohmann::json::array();
    for (const auto& place : survey["disks"][0]["places"])
      if (place["content"]["name"] == "NTFS") found.push_back(place);
    return found;
  }
  std::vector<std::map<std::string, std::uint64_t>> contents() {
    std::vector<std::map<std::string, std::uint64_t>> all;
    const std::string disk = raw();
    for (const auto& place : ntfs_places()) all.push_back(ntfs_contents(disk, place["offset"]));
    return all;
  }
  void expect_sound(const std::vector<std::map<std::string, std::uint64_t>>& before) {
    const std::string disk = raw();
    for (const auto& place : ntfs_places())
      EXPECT_EQ(account_ntfs(disk, place["offset"], place["size"]), "") << place["name"];
    EXPECT_TRUE(contents() == before);
    expect_status(0, {"audit", image_});
  }
  // Names, sizes and content of all files, as a general archiver finds them.
  std::string archiver_says() {
    std::string said;
    const std::string disk = raw();
    const std::string volume = folder_ / "volume";
    for (const auto& place : ntfs_places()) {
      files::remove(volume);
      run({"dd", "if=" + disk, "of=" + volume, "bs=64K", "iflag=skip_bytes,count_bytes",
           "conv=sparse", fmt::format("skip={}", place["offset"].get<std::uint64_t>()),
           fmt::format("count={}", place["size"].get<std::uint64_t>())});
      const ProgramResult names =
          run({"sh", "-c", "7zz l -ba -tntfs '" + volume + "' | grep -v '\\[SYSTEM\\]'"});
      const ProgramResult content =
          run({"sh", "-c", "7zz x -so -tntfs '-xr!$*' '" + volume + "' | cksum"});
      EXPECT_GT(names.out.size(), 20U) << names.err;
      said += names.out + content.out;
    }
    files::remove(volume);
    return said;
  }
  // Bytes that the target's filesystem takes.
  std::uint64_t size() {
    for (const auto& place : ntfs_places())
      if (place["name"] == GetParam().target ||
          place["mount_points"] == nlohmann::json::array({GetParam().target}))
        return ntfs_size(raw(), place["offset"]);
    return 0;
  }
  void grow(const Words& how, const std::string& amount = {}) {
    Words command = Words{"grow", image_, "--give", GetParam().target + amount, "--yes"} + how;
    if (GetParam().rescue_behind) command.emplace_back("--allow-move");
    succeeds(command);
  }

  TempFolder folder_;
  std::string raw_;
  std::string image_;
};

TEST_P(NtfsStory, GrowsShrinksAndCompacts) {
  SKIP_UNLESS_TAKEN(3)
  const auto before = contents();
  const std::string archive = archiver_says();
  ASSERT_FALSE(before.empty());
  const std::uint64_t small = size();
  ASSERT_GT(small, 0U);
  const std::uint32_t digest = file_digest(image_);
  grow({"--by", fmt::format("{}", small)});
  EXPECT_GE(size(), 2 * small - mib);
  expect_sound(before);
  succeeds({"undo", image_, "--yes"});
  EXPECT_EQ(file_digest(image_), digest);
  // By half of what there is.
  grow({"--by", "200MiB"}, "=50%");
  EXPECT_NEAR(static_cast<double>(size() - small), 100.0 * mib, 30.0 * mib);
  expect_sound(before);
  // And much.
  grow({"--by", fmt::format("{}", 19 * small)});
  EXPECT_GE(size(), 20 * small);
  expect_sound(before);
  // All the way back, and up again.
  succeeds({"shrink", image_, "--to", "floor", "--allow-move", "--yes"});
  EXPECT_LT(size(), small / 2);
  expect_sound(before);
  EXPECT_TRUE(archiver_says() == archive);
  grow({"--by", "64MiB"});
  expect_sound(before);
  succeeds({"compact", image_, "--yes"});
  expect_sound(before);
  EXPECT_TRUE(archiver_says() == archive);
}

std::vector<NtfsGuest> guests() {
  std::vector<NtfsGuest> all;
  for (const char* format : {"raw", "vhd", "vhdx", "vmdk"}) {
    all.push_back({"mbr-ntfs", "p2", false, format});
    all.push_back({"gpt-ntfs-recovery", "p3", true, format});
  }
  all.push_back({"dispatch", "C:", true, "raw"});
  all.push_back({"dispatch", "C:", true, "vhdx"});
  return all;
}

INSTANTIATE_TEST_SUITE_P(Guests, NtfsStory, testing::ValuesIn(guests()), [](const auto& test) {
  std::string name;
  for (const char c : std::string(test.param.sample) + "_" + test.param.format)
    name += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '_';
  return name;
});

class NtfsNames : public testing::Test {
 protected:
  void SetUp() override { unpack_sample("dispatch", image_); }
  TempFolder folder_;
  const std::string image_ = folder_ / "dispatch.img";
};

TEST_F(NtfsNames, AreThoseOfTheGuest) {
  const ProgramResult survey = juneheath({"survey", image_});
  EXPECT_THAT(survey.out, HasSubstr("C:"));
  EXPECT_THAT(survey.out, HasSubstr("p4 (the rescue partition) stands behind it"));
  for (const char* target : {"C:", "c:", "system", "label:Dispatch", "p3"}) {
    SCOPED_TRACE(target);
    const ProgramResult plan = expect_status(
        0, {"grow", image_, "--by", "1GiB", "--allow-move", "--give", target, "--dry-run"});
    EXPECT_THAT(plan.out, HasSubstr("towards the end, with all that is in it"));
  }
  // Without a target: what a system keeps to repair itself with is not meant, though room lies
  // there.
  const ProgramResult refused = expect_status(3, {"grow", image_, "--by", "1GiB"});
  EXPECT_THAT(refused.err, HasSubstr("--allow-move --give C:"));
  EXPECT_THAT(refused.err, Not(HasSubstr("--give p4")));
  expect_status(0, {"grow", image_, "--by", "1GiB", "--allow-move", "--dry-run"});
}

TEST_F(NtfsNames, ADiskOfTheGuestsOwnMakingIsLeftAlone) {
  const std::string image = unpack_sample("mbr-ntfs", folder_ / "dynamic.img");
  poke(image, 446 + 4, "\x42");
  const std::uint32_t digest = file_digest(image);
  const ProgramResult refused =
      expect_status(6, {"grow", image, "--by", "1GiB", "--give", "p2", "--yes"});
  EXPECT_THAT(refused.err, HasSubstr("dynamic disk"));
  EXPECT_EQ(file_digest(image), digest);
}

}  // namespace
}  // namespace jh::test
