// A guest with XFS on a volume: one command from the image to the filesystem, in every form.
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t boot_at = 1 << 20;
constexpr std::uint64_t volume_at = 488636416;  // the volume's first extent, on the disk
constexpr std::uint64_t root_size = 700ULL << 20;

// The volume as a file of its own, as far as its extents lie side by side.
void cut_out(const std::string& image, std::uint64_t at, std::uint64_t size,
             const std::string& to) {
  run({"bash", "-c",
       fmt::format("dd if='{}' of='{}' bs=1M iflag=skip_bytes,count_bytes skip={} count={} "
                   "conv=sparse status=none",
                   image, to, at, size)});
}

class XfsStory : public testing::TestWithParam<const char*> {};

TEST_P(XfsStory, OneCommandFromTheImageToTheFilesystem) {
  const TempFolder folder;
  const std::string raw = unpack_sample("moorhost", folder / "guest.img");
  const std::string format = GetParam();
  const std::string image = in_form(raw, format);
  const auto survey = survey_of({image});
  EXPECT_EQ(survey["hostname"], "moorhost") << "read from its XFS";
  EXPECT_EQ(survey["groups"][0]["volumes"][1]["mount_points"][0], "/");

  succeeds({"grow", image, "--by", "1GiB", "--give", "/", "--give", "swap=64MiB", "--yes"},
           {"XFS on heath/root"});
  expect_status(0, {"audit", image});
  expect_status(0, {"undo", image, "--yes"});

  // /boot stands in front of the physical volume: that moves out of its way, with all that is in
  // it.
  succeeds({"grow", image, "--by", "512MiB", "--give", "/boot=400MiB", "--allow-move", "--yes"});
  expect_status(0, {"audit", image});
  succeeds({"compact", image, "--yes"});
  expect_status(0, {"audit", image});
  const std::string whole = format == "img" ? image : recast_raw(image, folder / "whole.img");
  cut_out(whole, boot_at, 800ULL << 20, folder / "boot");
  EXPECT_EQ(check_xfs(folder / "boot"), "");
  const auto now = survey_of({whole});
  const std::uint64_t moved_by = now["disks"][0]["places"][1]["offset"].get<std::uint64_t>() -
                                 survey["disks"][0]["places"][1]["offset"].get<std::uint64_t>();
  EXPECT_GE(moved_by, 400ULL << 20);
  cut_out(whole, volume_at + moved_by, root_size, folder / "root");
  EXPECT_EQ(check_xfs(folder / "root"), "");
  if (!can_mount()) return;
  cut_out(raw, volume_at, root_size, folder / "old-root");
  if (format == "img") return;  // that one has become the new one
  // One after the other: the kernel takes no two of one identity.
  const std::string before = mounted_tree(folder / "old-root");
  EXPECT_FALSE(before.empty());
  EXPECT_EQ(mounted_tree(folder / "root"), before);
}

INSTANTIATE_TEST_SUITE_P(Forms, XfsStory,
                         testing::Values("img", "qcow2", "vdi", "vmdk", "vhd", "vhdx"), by_name);

}  // namespace
}  // namespace jh::test
