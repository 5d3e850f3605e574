// A guest with volumes, grown through the built program, and what every such test looks at.
#pragma once

#include "support/test.h"
#include "support/tree.h"
#include "support/volumes.h"

namespace jh::test {

class VolumeGuest : public testing::Test {
 protected:
  void unpack(const Words& samples) {
    for (const std::string& sample : samples) {
      images_.push_back(folder_ / (sample + ".img"));
      unpack_sample(sample, images_.back());
      digests_.push_back(file_digest(images_.back()));
    }
  }
  ProgramResult grow(const Words& options) { return juneheath(Words{"grow"} + images_ + options); }
  void expect_grow(int status, const Words& options, const Words& texts = {}) {
    expect_status(status, Words{"grow"} + images_ + options, texts);
  }
  ProgramResult grows(const Words& options, const Words& texts = {}) {
    return succeeds(Words{"grow"} + images_ + options, texts);
  }
  // The volume's filesystem is sound, mounts, and has this tree; its size is returned.
  std::uint64_t expect_sound(const std::string& volume, const Facts& tree) {
    const std::string copy = folder_ / "volume";
    extract_volume(images_, volume, copy);
    EXPECT_EQ(check_ext(copy), "") << volume;
    std::uint64_t capacity = 0;
    if (can_mount()) {
      const Mounted mounted(copy, 0);
      capacity = mounted.capacity();
      EXPECT_EQ(tree_difference(tree, tree_facts(mounted.path())), "") << volume;
    }
    files::remove(copy);
    return capacity;
  }
  Facts tree_of(const std::string& volume) {
    if (!can_mount()) return {};
    const std::string copy = folder_ / "before";
    extract_volume(images_, volume, copy);
    auto facts = tree_facts(Mounted(copy, 0).path());
    files::remove(copy);
    return facts;
  }
  void expect_audit_clean() { expect_status(0, Words{"audit"} + images_); }
  void expect_untouched() {
    for (std::size_t i = 0; i < images_.size(); ++i)
      EXPECT_EQ(file_digest(images_[i]), digests_[i]) << images_[i];
    for (const auto& entry : files::directory_iterator(folder_.path()))
      EXPECT_THAT(entry.path().filename().string(), Not(HasSubstr("juneheath"))) << entry.path();
  }
  ProgramResult undo(const Words& also = {}) { return juneheath(Words{"undo"} + images_ + also); }
  /// `also`: disks that the change added.
  void undo_and_compare(const Words& also = {}) {
    succeeds(Words{"undo"} + images_ + also);
    expect_untouched();
  }

  TempFolder folder_;
  Words images_;
  std::vector<std::uint32_t> digests_;
};

}  // namespace jh::test
