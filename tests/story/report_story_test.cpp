// Reports: written by every command, also by those that were refused; true, self-contained, and as
// the schema says.
#include "support/schema.h"
#include "support/test.h"

namespace jh::test {
namespace {

using nlohmann::json;

class ReportStory : public testing::Test {
 protected:
  void SetUp() override {
    unpack_sample("nestcam", image_);
    unpack_sample("fieldstation", group_);
  }

  // Runs a command with a report, and looks at what every report must have.
  json report(Words words, int status, bool figure = true) {
    const std::string folder = folder_ / ("report-" + std::to_string(++count_));
    words.insert(words.end(), {"--report", folder});
    const ProgramResult outcome = juneheath(words);
    EXPECT_EQ(outcome.status, status) << outcome.err;
    const std::string text = read_file(folder + "/report.json");
    EXPECT_EQ(check_schema(text), "") << words.front();
    page_ = read_file(folder + "/report.html");
    expect_sound_page(page_);
    EXPECT_EQ(files::exists(folder + "/layout.svg"), figure);
    EXPECT_EQ(files::exists(folder + "/layout.png"), figure);
    for (const auto& entry : files::directory_iterator(folder))
      EXPECT_THAT(entry.path().string(), Not(HasSubstr(".part"))) << entry.path();
    const json document = json::parse(text);
    EXPECT_EQ(document["run"]["status"], status);
    EXPECT_EQ(document["run"]["words"][1], words.front());
    return document;
  }

  struct Tag {
    bool closes = false;
    std::string name;
    std::string rest;  // its attributes
  };
  static std::vector<Tag> tags_of(const std::string& page) {
    std::vector<Tag> tags;
    for (std::size_t at = 0; (at = page.find('<', at)) != std::string::npos;) {
      const std::size_t end = page.find('>', at);
      Tag tag;
      tag.closes = page[at + 1] == '/';
      const std::string inside = page.substr(at + 1 + (tag.closes ? 1 : 0), end - at - 1);
      tag.name = inside.substr(0, inside.find_first_of(" >"));
      tag.rest = inside.substr(tag.name.size());
      tags.push_back(std::move(tag));
      at = end;
    }
    return tags;
  }

  static void expect_sound_page(const std::string& page) {
    ASSERT_TRUE(page.starts_with("<!DOCTYPE html>")) << page.substr(0, 80);
    // Nothing is fetched, and nothing runs.
    EXPECT_THAT(page, Not(HasSubstr("url(")));
    EXPECT_THAT(page, Not(HasSubstr("@import")));
    for (const char* attribute : {" src=\"", " srcset=\"", " href=\""})
      for (std::size_t at = 0; (at = page.find(attribute, at)) != std::string::npos; ++at) {
        const std::string value = page.substr(at + std::string(attribute).size(), 8);
        EXPECT_TRUE(value.starts_with("data:") || value.starts_with("#") ||
                    value.starts_with("guests/"))
            << value;
      }
    // What is opened is closed, in order.
    Words open;
    static const Words lone{"meta", "img", "source", "br"};
    for (const Tag& tag : tags_of(page.substr(page.find("<body>")))) {
      EXPECT_NE(tag.name, "script");
      if (tag.name == "th" && !tag.closes) {
        EXPECT_THAT(tag.rest, HasSubstr("scope="));
      }
      if (tag.name == "img") {
        EXPECT_THAT(tag.rest, HasSubstr(" alt=\""));
        EXPECT_THAT(tag.rest, Not(HasSubstr(" alt=\"\"")));
      }
      if (std::find(lone.begin(), lone.end(), tag.name) != lone.end()) continue;
      if (!tag.closes) {
        open.push_back(tag.name);
      } else if (open.empty()) {
        EXPECT_EQ(tag.name, "html");
      } else {
        ASSERT_EQ(tag.name, open.back());
        open.pop_back();
      }
    }
    EXPECT_TRUE(open.empty());
    // For those who do not see it, for those without a mouse, in the dark and on paper.
    for (const char* words : {"<html lang=\"en\">", "class=\"skip\"", ":focus-visible",
                              "prefers-color-scheme: dark", "@media print"})
      EXPECT_THAT(page, HasSubstr(words)) << words;
  }

  bool page_says(const std::string& words) const { return page_.find(words) != std::string::npos; }

  TempFolder folder_;
  std::string image_ = folder_ / "nestcam.img";
  std::string group_ = folder_ / "fieldstation.img";
  std::string page_;
  int count_ = 0;
};

TEST_F(ReportStory, OfAGrowthAndItsUndo) {
  const json grown = report({"grow", image_, "--by", "1GiB", "--give", "/", "--yes"}, 0);
  EXPECT_EQ(grown["run"]["changed"], true);
  EXPECT_EQ(grown["run"]["way_back"], "juneheath undo " + image_);
  EXPECT_EQ(grown["run"]["layers"], grown["layers"]);
  ASSERT_GE(grown["run"]["proof"].size(), 3U);
  for (const json& seen : grown["run"]["proof"])
    if (seen["what"].get<std::string>().starts_with("bytes of the disk that differ")) {
      EXPECT_GT(seen["count"], 4096);
    }
  EXPECT_TRUE(page_says("+1 GiB"));
  EXPECT_TRUE(page_says("juneheath undo"));
  EXPECT_TRUE(page_says("partition tables read again"));
  const json undone = report({"undo", image_, "--yes"}, 0);
  EXPECT_EQ(undone["run"]["outcome"], "done");
  EXPECT_EQ(undone["done"], true);
}

TEST_F(ReportStory, OfAPlanOnly) {
  const json planned = report({"shrink", group_, "--to", "floor", "--dry-run"}, 0);
  EXPECT_EQ(planned["run"]["outcome"], "dry run");
  EXPECT_EQ(planned["run"]["changed"], false);
  EXPECT_TRUE(page_says("Nothing was changed."));
  EXPECT_TRUE(page_says("as it would be"));
}

TEST_F(ReportStory, OfARefusal) {
  const json refused = report({"grow", image_, "--to", "100MiB", "--yes"}, 3);
  EXPECT_EQ(refused["error"]["status"], 3);
  EXPECT_TRUE(page_says("What stands in the way"));
  EXPECT_TRUE(page_says("juneheath grow"));
  report({"grow", image_, "--by", "1GiB", "--give", "/nowhere", "--yes"}, 3);
  // Also where there is nothing to draw.
  report({"grow", folder_ / "nowhere.img", "--by", "1GiB"}, 3, false);
  EXPECT_TRUE(page_says("nowhere.img"));
}

TEST_F(ReportStory, OfDamage) {
  // The root folder's inode, in the filesystem of the third partition.
  poke(image_, 52428800 + 1024 + 0x10, std::string(8, '\xff'));
  const json found = report({"audit", image_}, 4);
  EXPECT_GE(found["count"], 1);
  EXPECT_EQ(found["run"]["outcome"], "damage found");
  EXPECT_TRUE(page_says("What was found"));
}

TEST_F(ReportStory, OfSurveyAuditCompactRecastAndRecover) {
  const json survey = report({"survey", group_}, 0);
  ASSERT_EQ(survey["run"]["files"].size(), 1U);
  EXPECT_EQ(survey["run"]["files"][0]["before"]["disk"], 805306368);
  EXPECT_TRUE(page_says("What could be done"));
  const json audit = report({"audit", group_}, 0);
  for (const json& verdict : audit["run"]["verdicts"]) EXPECT_EQ(verdict["kind"], "sound");
  const std::string other = folder_ / "nestcam.qcow2";
  report({"recast", image_, other}, 0);
  EXPECT_TRUE(page_says("rm " + other));
  const json compact = report({"compact", other, "--yes"}, 0);
  EXPECT_TRUE(compact["run"]["files"][0].contains("after"));
  report({"recover", other}, 0);
  EXPECT_TRUE(page_says("nothing to do"));
}

// A label that an image brings along is text, in the page and in the figure.
TEST_F(ReportStory, OfAHostileName) {
  const std::string bare = folder_ / "bare.img";
  make_sparse_file(bare, 64 << 20);
  ASSERT_EQ(run({"mkfs.ext4", "-q", "-F", "-L", "<b>&\"'x", bare}).status, 0);
  report({"survey", bare}, 0);
  EXPECT_THAT(page_, Not(HasSubstr("<b>")));
  EXPECT_TRUE(page_says("&lt;b&gt;&amp;&quot;&#39;x"));
}

TEST_F(ReportStory, ThatCannotBeWrittenIsFoundOutBeforeTheChange) {
  write_file(folder_ / "taken", "");
  const std::uint32_t before = file_digest(image_);
  expect_status(5, {"grow", image_, "--by", "1GiB", "--yes", "--report", folder_ / "taken"},
                {"Nothing was changed"});
  EXPECT_EQ(file_digest(image_), before);
}

TEST_F(ReportStory, FiguresOfASurvey) {
  for (const char* name : {"now.svg", "now.png"}) {
    succeeds({"survey", image_, "--figure", folder_ / name, "--quiet"});
    EXPECT_GT(files::file_size(folder_ / name), 2000U);
  }
  expect_status(2, {"survey", image_, "--figure", folder_ / "now.gif"});
}

// Every document that a command prints is as the schema says.
TEST_F(ReportStory, DocumentsFollowTheSchema) {
  const auto expect_valid = [&](Words words) {
    words.emplace_back("--json");
    const ProgramResult outcome = juneheath(words);
    EXPECT_EQ(check_schema(outcome.out), "") << words.front();
  };
  for (const char* sample : {"heather", "mbr-extended", "dispatch", "mbr-boot-lvm", "two-groups",
                             "whole-disk-pv", "fat-32", "dirty-ext4", "ntfs-asleep"}) {
    const std::string image = unpack_sample(sample, folder_ / (std::string(sample) + ".img"));
    expect_valid({"survey", image});
    expect_valid({"audit", image});
    expect_valid({"grow", image, "--by", "1GiB", "--dry-run"});
    expect_valid({"shrink", image, "--to", "floor", "--dry-run"});
    expect_valid({"compact", image, "--dry-run"});
    expect_valid({"undo", image});
    files::remove(image);
  }
  expect_valid({"grow", image_, "--by", "1GiB", "--yes"});
  expect_valid({"shrink", group_, "--to", "floor", "--yes"});
  expect_valid({"undo", image_, "--yes"});
  expect_valid({"recover", image_});
  expect_valid({"recast", image_, folder_ / "n.vhdx", "--dry-run"});
  expect_valid({"recast", image_, folder_ / "n.vhdx"});
  expect_valid({"recast", folder_ / "n.vhdx", "--store", "full"});
  expect_valid({"compact", folder_ / "n.vhdx", "--yes"});
  expect_valid({"survey", "--each", folder_.path().string()});
  expect_valid({"config"});
  expect_valid({"survey"});
  expect_valid({"nonsense"});
  EXPECT_NE(check_schema(R"({"schema": "juneheath/1", "command": "survey", "disks": 3})"), "");
}

// Hundreds of images in one call; what is no image is counted.
TEST_F(ReportStory, SurveyOfMany) {
  for (int i = 0; i < 120; ++i)
    ASSERT_EQ(
        run({"cp", "--sparse=always", folder_ / (i % 2 == 0 ? "nestcam.img" : "fieldstation.img"),
             folder_ / ("many-" + std::to_string(i) + ".img")})
            .status,
        0);
  write_file(folder_ / "notes.txt", std::string(100000, 'n'));
  write_file(folder_ / "empty.img", "");
  files::create_directory(folder_ / "vmdk");
  succeeds({"recast", image_, folder_ / "vmdk/p.vmdk", "--pieces"});
  files::create_symlink(folder_.path(), folder_ / "loop");
  const json document = survey_of({"--each", folder_.path().string()});
  EXPECT_EQ(document["images"].size(), 123U);
  EXPECT_EQ(document["no_images"].size(), 2U);
  EXPECT_GE(document["parts_of_images"], 1);
  const ProgramResult csv = juneheath({"survey", "--each", folder_.path().string(), "--csv"});
  EXPECT_EQ(std::count(csv.out.begin(), csv.out.end(), '\n'), 124);
  expect_said({"survey", "--each", folder_.path().string()},
              {"123 images", "2 files are not disk images"});
  expect_status(2, {"survey", image_, "--csv"});
}

}  // namespace
}  // namespace jh::test
