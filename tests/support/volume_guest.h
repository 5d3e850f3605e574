// A guest with volumes, grown through the built program, and what every such test looks at.
#pragma once

#include <gtest/gtest.h>

#include <filesystem>

#include "support/judges.h"
#include "support/program.h"
#include "support/samples.h"
#include "support/tree.h"
#include "support/volumes.h"

namespace jh::test {

using Words = std::vector<std::string>;

class VolumeGuest : public testing::Test {
 protected:
  void unpack(const Words& samples) {
    for (const std::string& sample : samples) {
      images_.push_back(folder_ / (sample + ".img"));
      unpack_sample(sample, images_.back());
      digests_.push_back(file_digest(images_.back()));
    }
  }
  ProgramResult grow(const Words& options) {
    Words command{"grow"};
    command.insert(command.end(), images_.begin(), images_.end());
    command.insert(command.end(), options.begin(), options.end());
    return juneheath(command);
  }
  // The volume's filesystem is sound, mounts, and has this tree; its size is returned.
  std::uint64_t expect_sound(const std::string& volume,
                             const std::map<std::string, std::string>& tree) {
    const std::string copy = folder_ / "volume";
    extract_volume(images_, volume, copy);
    EXPECT_EQ(check_ext(copy), "") << volume;
    std::uint64_t capacity = 0;
    if (can_mount()) {
      const Mounted mounted(copy, 0);
      capacity = mounted.capacity();
      EXPECT_EQ(tree_difference(tree, tree_facts(mounted.path())), "") << volume;
    }
    std::filesystem::remove(copy);
    return capacity;
  }
  std::map<std::string, std::string> tree_of(const std::string& volume) {
    if (!can_mount()) return {};
    const std::string copy = folder_ / "before";
    extract_volume(images_, volume, copy);
    auto facts = tree_facts(Mounted(copy, 0).path());
    std::filesystem::remove(copy);
    return facts;
  }
  void expect_audit_clean() {
    Words command{"audit"};
    command.insert(command.end(), images_.begin(), images_.end());
    const ProgramResult audit = juneheath(command);
    EXPECT_EQ(audit.status, 0) << audit.out;
  }
  void expect_untouched() {
    for (std::size_t i = 0; i < images_.size(); ++i)
      EXPECT_EQ(file_digest(images_[i]), digests_[i]) << images_[i];
    for (const auto& entry : std::filesystem::directory_iterator(folder_.path()))
      EXPECT_EQ(entry.path().filename().string().find("juneheath"), std::string::npos)
          << entry.path();
  }
  ProgramResult undo(const Words& also = {}) {
    Words command{"undo"};
    command.insert(command.end(), images_.begin(), images_.end());
    command.insert(command.end(), also.begin(), also.end());
    return juneheath(command);
  }
  /// `also`: disks that the change added.
  void undo_and_compare(const Words& also = {}) {
    const ProgramResult undone = undo(also);
    ASSERT_EQ(undone.status, 0) << undone.err;
    expect_untouched();
  }

  TempFolder folder_;
  Words images_;
  std::vector<std::uint32_t> digests_;
};

}  // namespace jh::test
