// A guest with btrfs in a partition, in every form.
#include "support/test.h"

namespace jh::test {
namespace {

class BtrfsStory : public testing::TestWithParam<const char*> {};

TEST_P(BtrfsStory, GrowsShrinksAndIsCompacted) {
  const TempFolder folder;
  const std::string raw = unpack_sample("moss", folder / "guest.img");
  const std::string image = in_form(raw, GetParam());
  constexpr std::uint64_t start = 1 << 20;
  const auto tree_of = [&](const std::string& disk) {
    return can_mount() ? [&] {
      const Mounted mounted(disk, start);
      return run({"bash", "-c",
                  "cd '" + mounted.path() +
                      "' && find . -printf '%p %y %m %U %G %n %s %T@ %l\\n' | sort && find . -type f "
                      "-print0 | sort -z | xargs -0 -r sha1sum"})
          .out;
    }()
                       : std::string();
  };
  const std::string before = tree_of(raw);
  EXPECT_EQ(!before.empty(), can_mount());
  const auto check = [&] {
    expect_status(0, {"audit", image});
    const std::string whole = recast_raw(image, folder / "whole.img");
    run({"bash", "-c",
         fmt::format("dd if='{0}' of='{0}.fs' bs=1M skip=1 conv=sparse status=none", whole)});
    EXPECT_EQ(check_btrfs(whole + ".fs"), "");
    EXPECT_EQ(tree_of(whole), before);
    files::remove(whole);
    files::remove(whole + ".fs");
  };
  const auto change = [&](const Words& words) {
    succeeds(words);
    check();
  };
  change({"grow", image, "--by", "700MiB", "--give", "p1", "--yes"});
  change({"undo", image, "--yes"});
  change({"shrink", image, "--to", "floor", "--yes"});
  change({"grow", image, "--by", "90MiB", "--give", "p1", "--yes"});
  change({"compact", image, "--yes"});
}

INSTANTIATE_TEST_SUITE_P(Forms, BtrfsStory,
                         testing::Values("img", "qcow2", "vdi", "vmdk", "vhd", "vhdx"), by_name);

}  // namespace
}  // namespace jh::test
