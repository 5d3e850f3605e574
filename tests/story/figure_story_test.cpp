// Figures as files: an SVG is read as others would read it, and its strips hold what the survey
// says.
#include <cmath>

#include "support/test.h"

namespace jh::test {
namespace {

struct Rectangle {
  double left = 0, top = 0, right = 0, bottom = 0;
};

// What is filled and has four corners at right angles: "M x y L x y L x y L x y Z".
std::vector<Rectangle> rectangles_of(const std::string& svg) {
  std::vector<Rectangle> all;
  for (std::size_t at = 0; (at = svg.find("<path", at)) != std::string::npos; ++at) {
    const std::string element = svg.substr(at, svg.find("/>", at) - at);
    const std::size_t data = element.find(" d=\"");
    if (element.find("fill:rgb") == std::string::npos || data == std::string::npos) continue;
    std::istringstream words(element.substr(data + 4));
    std::vector<double> numbers;
    for (std::string word; words >> word && word != "Z";)
      if (word != "M" && word != "L") numbers.push_back(std::atof(word.c_str()));
    if (numbers.size() != 8) continue;
    const auto [left, right] = std::minmax({numbers[0], numbers[2], numbers[4], numbers[6]});
    const auto [top, bottom] = std::minmax({numbers[1], numbers[3], numbers[5], numbers[7]});
    all.push_back({left, top, right, bottom});
  }
  return all;
}

// Elements are closed in order, and attributes quoted: XML, as far as Cairo uses it.
void expect_well_formed(const std::string& svg) {
  Words open;
  for (std::size_t at = svg.find("<svg"); (at = svg.find('<', at)) != std::string::npos;) {
    const std::size_t end = svg.find('>', at);
    ASSERT_NE(end, std::string::npos);
    const std::string tag = svg.substr(at + 1, end - at - 1);
    EXPECT_EQ(std::count(tag.begin(), tag.end(), '"') % 2, 0) << tag;
    const std::string name = tag.substr(0, tag.find_first_of(" \n/"));
    if (tag.starts_with("/")) {
      ASSERT_FALSE(open.empty());
      ASSERT_EQ(tag.substr(1), open.back());
      open.pop_back();
    } else if (!tag.ends_with("/")) {
      open.push_back(name);
    }
    at = end;
  }
  EXPECT_TRUE(open.empty());
}

class FigureStory : public testing::TestWithParam<const char*> {};

TEST_P(FigureStory, StripsAddUpAndSayWhatTheSurveySays) {
  const TempFolder folder;
  const std::string image = unpack_sample(GetParam(), folder / "guest.img");
  succeeds({"survey", image, "--figure", folder / "now.svg", "--quiet"});
  const auto survey = survey_of({image});
  const std::string svg = read_file(folder / "now.svg");
  expect_well_formed(svg);
  EXPECT_THAT(svg, HasSubstr("<title>"));

  // Strips begin and end with the figure's margins. In the first panel: the disk, and what lies in
  // it.
  const auto& disk = survey["disks"][0];
  const double size = disk["disk_size"].get<double>();
  constexpr double margin = 32;
  constexpr double width = 1280 - 2 * margin;
  const std::vector<Rectangle> all = rectangles_of(svg);
  const auto whole = std::find_if(all.begin(), all.end(), [](const Rectangle& each) {
    return std::abs(each.left - margin) < 0.1 && std::abs(each.right - each.left - width) < 0.1;
  });
  ASSERT_NE(whole, all.end()) << "no strip for the disk";
  std::vector<Rectangle> pieces;
  for (const Rectangle& each : all)
    if (std::abs(each.top - whole->bottom) < 0.1) pieces.push_back(each);
  std::size_t wanted = 0;
  for (const auto& place : disk["places"])
    wanted += place["content"]["name"] != "extended" && place["size"] != 0 ? 1 : 0;
  EXPECT_GE(pieces.size(), std::max<std::size_t>(wanted, 2) - 1);
  std::sort(pieces.begin(), pieces.end(),
            [](const Rectangle& a, const Rectangle& b) { return a.left < b.left; });
  double sum = pieces.front().left - margin;  // what is in front belongs to the table
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    sum += pieces[i].right - pieces[i].left;
    if (i == 0) continue;
    const double gap = pieces[i].left - pieces[i - 1].right;
    EXPECT_GE(gap, -0.1) << "pieces overlap";
    sum += gap;
  }
  EXPECT_LE(sum, width + 0.1);
  EXPECT_GE(sum, width - 12) << "the strips do not add up to the disk";

  // True to scale, where a piece is no sliver.
  for (const auto& place : disk["places"]) {
    const double share = place["size"].get<double>() / size;
    if (share < 0.05 || !place.contains("partition")) continue;
    const bool drawn = std::any_of(pieces.begin(), pieces.end(), [&](const Rectangle& piece) {
      return std::abs((piece.right - piece.left) / width - share) < 0.04;
    });
    EXPECT_TRUE(drawn || place["partition"]["type_name"] == "extended")
        << place["name"] << " should take " << share;
  }
  // The words in it have the survey's names.
  for (const auto& place : disk["places"])
    for (const auto& point : place["mount_points"])
      EXPECT_THAT(svg, HasSubstr(point.get<std::string>())) << point;
}

INSTANTIATE_TEST_SUITE_P(Samples, FigureStory,
                         testing::Values("heather", "nestcam", "fieldstation", "dispatch",
                                         "mbr-extended", "whole-disk-pv", "two-groups",
                                         "swap-behind"));

}  // namespace
}  // namespace jh::test
