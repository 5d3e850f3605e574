// Stories that change a guest and look at all its filesystems before and after.
#pragma once

#include "support/test.h"
#include "support/tree.h"
#include "support/volumes.h"

namespace jh::test {

/// Every ext filesystem of a guest, by the survey: a name, and where it lies.
struct ExtPlace {
  std::string name;
  bool volume = false;
  std::uint64_t offset = 0;
};

class GuestStory : public testing::Test {
 protected:
  std::vector<ExtPlace> filesystems(const Words& images) {
    const auto survey = survey_of(images);
    std::vector<ExtPlace> places;
    const auto is_ext = [](const nlohmann::json& place) {
      return place["content"]["name"].get<std::string>().starts_with("ext") &&
             place["content"]["name"] != "extended partition";
    };
    for (const auto& disk : survey["disks"])
      for (const auto& place : disk["places"])
        if (is_ext(place) && place.contains("partition") &&
            place["partition"]["type_name"] != "extended")
          places.push_back({place["name"], false, place["offset"]});
    for (const auto& group : survey["groups"])
      for (const auto& place : group["volumes"])
        if (is_ext(place)) places.push_back({place["name"], true, 0});
    return places;
  }

  // Sound by the checker; the tree as the kernel shows it.
  std::map<std::string, Facts> trees(const Words& raw) {
    std::map<std::string, Facts> all;
    for (const ExtPlace& place : filesystems(raw)) {
      std::string file = raw.front();
      if (place.volume) {
        file = folder_ / "volume";
        extract_volume(raw, place.name, file);
      }
      EXPECT_EQ(check_ext(file, place.offset), "") << place.name;
      if (can_mount()) all[place.name] = tree_facts(Mounted(file, place.offset).path());
      if (place.volume) files::remove(file);
    }
    return all;
  }

  void expect_same(const Words& raw, const std::map<std::string, Facts>& before) {
    const auto now = trees(raw);
    ASSERT_EQ(now.size(), before.size());
    for (const auto& [name, tree] : before)
      EXPECT_EQ(tree_difference(tree, now.at(name)), "") << name;
  }

  ProgramResult run_on(const std::string& command, const Words& images, const Words& options) {
    return juneheath(Words{command} + images + options);
  }

  void expect_audit_clean(const Words& images) {
    const ProgramResult audit = run_on("audit", images, {});
    EXPECT_EQ(audit.status, 0) << audit.out;
  }

  TempFolder folder_;
};

}  // namespace jh::test
