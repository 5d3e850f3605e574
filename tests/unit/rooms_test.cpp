// The house has an order: a room includes what stands before it, rooms on one floor do not know
// each other, and no two files lead to each other.
#include <regex>

#include "support/test.h"

namespace jh::test {
namespace {

using Names = std::set<std::string>;

// Floors, from the ground up; rooms on one floor side by side.
const std::vector<Names> floors{{"base"},    {"store"},
                                {"layer"},   {"container", "table", "lvm", "array", "luks", "fs"},
                                {"guest"},   {"plan"},
                                {"staged"},  {"carry", "proof"},
                                {"compact"}, {"change", "live"},
                                {"figure"},  {"report"},
                                {"order"},   {"library"},
                                {"cli"},     {"manual"}};

int floor_of(const std::string& room) {
  const auto found = std::find_if(floors.begin(), floors.end(),
                                  [&](const Names& floor) { return floor.contains(room); });
  return found == floors.end() ? -1 : static_cast<int>(found - floors.begin());
}

// "core/fs/ext/grow" → room "fs", folder "core/fs/ext".
std::string room_of(const std::string& file) {
  const std::string inside = file.starts_with("core/") ? file.substr(5) : file;
  return inside.substr(0, inside.find('/'));
}
std::string folder_of(const std::string& file) { return file.substr(0, file.rfind('/')); }

// By file, a header and its source together: what it includes of ours.
std::map<std::string, Names> includes() {
  static const std::regex line("#include \"((?:core|cli|library)/[^\"]+)\\.h\"");
  std::map<std::string, Names> all;
  const files::path root(JUNEHEATH_SOURCE);
  for (const auto& entry : files::recursive_directory_iterator(root)) {
    const files::path path = entry.path();
    if (path.extension() != ".h" && path.extension() != ".cpp") continue;
    const std::string name = files::relative(path, root).replace_extension().string();
    std::ifstream in(path);
    std::smatch match;
    for (std::string text; std::getline(in, text);)
      if (std::regex_search(text, match, line) && match[1] != name) all[name].insert(match[1]);
  }
  return all;
}

TEST(Rooms, IncludeOnlyWhatStandsBeforeThem) {
  const auto all = includes();
  ASSERT_GT(all.size(), 100U);
  for (const auto& [file, included] : all)
    for (const std::string& other : included) {
      const std::string from = room_of(file);
      const std::string to = room_of(other);
      ASSERT_NE(floor_of(from), -1) << file << " is in a room that nobody knows";
      EXPECT_TRUE(from == to || floor_of(to) < floor_of(from)) << file << " includes " << other;
    }
}

// The kinds of a layer, in folders of their own, are known to the table of kinds only.
TEST(Rooms, KindsDoNotKnowEachOther) {
  for (const auto& [file, included] : includes())
    for (const std::string& other : included) {
      if (room_of(file) != room_of(other) || folder_of(file) == folder_of(other)) continue;
      const bool inside = std::count(other.begin(), other.end(), '/') == 3;
      const bool table_of_kinds = file.ends_with("/kinds") || file.ends_with("/recognise") ||
                                  file.ends_with("/create") || file.ends_with("/fill");
      // A GPT begins with a protective MBR, whose layout the specification has in common.
      const bool layout = other.ends_with("/format");
      if (inside && !table_of_kinds && !layout) ADD_FAILURE() << file << " includes " << other;
    }
}

TEST(Rooms, NoTwoFilesLeadToEachOther) {
  const auto all = includes();
  std::map<std::string, int> state;  // 1: on the way, 2: done
  const std::function<void(const std::string&)> visit = [&](const std::string& file) {
    state[file] = 1;
    const auto found = all.find(file);
    if (found != all.end())
      for (const std::string& other : found->second) {
        if (state[other] == 1) ADD_FAILURE() << file << " and " << other << " lead to each other";
        if (state[other] == 0) visit(other);
      }
    state[file] = 2;
  };
  for (const auto& [file, included] : all)
    if (state[file] == 0) visit(file);
}

// Kinds of filesystems have names in the table of kinds and nowhere above it.
TEST(Rooms, NobodyAboveNamesAKindOfFilesystem) {
  for (const auto& [file, included] : includes())
    for (const std::string& other : included)
      EXPECT_FALSE(floor_of(room_of(file)) > floor_of("fs") && other.starts_with("core/fs/") &&
                   std::count(other.begin(), other.end(), '/') == 3)
          << file << " includes " << other;
}

}  // namespace
}  // namespace jh::test
