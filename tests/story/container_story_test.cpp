// Every form through the built program: what an outside implementation wrote is read, grown through
// all layers and put back; and recast into every other form. Judges: the system's sum of the disk,
// its checker and its kernel, and a general archiver's reading of the image.
#include "support/containers.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

constexpr std::uint64_t first_partition = 1048576;

struct Sample {
  std::string file;
  std::string archiver;  // the archiver's name of the form; empty: it does not read this one
};

void PrintTo(const Sample& sample, std::ostream* out) { *out << sample.file; }

std::string test_name(const std::string& file) {
  std::string name;
  for (const char c : file)
    if (std::isalnum(static_cast<unsigned char>(c)) != 0) name += c;
  return name;
}

// Sums of all files in the folder, by name.
std::map<std::string, std::uint32_t> digests(const TempFolder& folder) {
  std::map<std::string, std::uint32_t> sums;
  for (const auto& entry : files::directory_iterator(folder.path()))
    sums[entry.path().filename().string()] = file_digest(entry.path().string());
  return sums;
}

class ContainerSample : public testing::TestWithParam<Sample> {
 protected:
  std::string as_raw(const std::string& name) { return recast_raw(image_, scratch_ / name); }

  TempFolder folder_;
  TempFolder scratch_;
  std::string image_ = unpack_container(GetParam().file, folder_);
};

TEST_P(ContainerSample, IsReadAndGrownInOneCommand) {
  SKIP_UNLESS_TAKEN(3)
  const std::string before = as_raw("before.img");
  EXPECT_EQ(sha256_of(before), sample_sha256);
  expect_status(0, {"audit", image_});
  const auto sums = digests(folder_);

  succeeds({"grow", image_, "--to", "1GiB"});
  expect_status(0, {"audit", image_});
  const std::string after = as_raw("after.img");
  EXPECT_EQ(files::file_size(after), 1ULL << 30);
  EXPECT_EQ(check_ext(after, first_partition), "");
  if (can_mount()) {
    const Mounted then(before, first_partition);
    const Mounted now(after, first_partition);
    EXPECT_GT(now.capacity(), 900U << 20);
    EXPECT_EQ(tree_difference(tree_facts(then.path()), tree_facts(now.path())), "");
  }
  if (!GetParam().archiver.empty()) {
    EXPECT_EQ(archiver_difference(GetParam().archiver, image_, after), "");
  }
  succeeds({"undo", image_});
  EXPECT_EQ(digests(folder_), sums);
}

INSTANTIATE_TEST_SUITE_P(Files, ContainerSample,
                         testing::Values(Sample{"v2.qcow2", "QCOW"}, Sample{"v3.qcow2", "QCOW"},
                                         Sample{"big.qcow2", "QCOW"}, Sample{"zlib.qcow2", "QCOW"},
                                         Sample{"zstd.qcow2", ""}, Sample{"ext-l2.qcow2", ""},
                                         Sample{"lazy.qcow2", "QCOW"}, Sample{"dyn.vdi", "VDI"},
                                         Sample{"fixed.vdi", "VDI"}, Sample{"sparse.vmdk", "VMDK"},
                                         Sample{"monolithicFlat.vmdk", "VMDK"},
                                         Sample{"twoGbMaxExtentSparse.vmdk", "VMDK"},
                                         Sample{"twoGbMaxExtentFlat.vmdk", "VMDK"},
                                         Sample{"dyn.vhd", "VHD"}, Sample{"fixed.vhd", "VHD"},
                                         Sample{"dyn.vhdx", "VHDX"}, Sample{"small.vhdx", "VHDX"},
                                         Sample{"fixed.vhdx", "VHDX"}),
                         [](const auto& param) { return test_name(param.param.file); });

// Targets of recast: every form, in every way it can be kept.
struct Target {
  const char* format;
  const char* store;
  const char* archiver;
  bool pieces = false;
};
constexpr std::array<Target, 14> recast_targets{{{"raw", "sparse", ""},
                                                 {"raw", "full", ""},
                                                 {"qcow2", "sparse", "QCOW"},
                                                 {"qcow2", "packed", "QCOW"},
                                                 {"vdi", "sparse", "VDI"},
                                                 {"vdi", "full", "VDI"},
                                                 {"vmdk", "sparse", "VMDK"},
                                                 {"vmdk", "full", "VMDK"},
                                                 {"vmdk", "packed", "VMDK"},
                                                 {"vmdk", "sparse", "VMDK", true},
                                                 {"vmdk", "full", "VMDK", true},
                                                 {"vhd", "sparse", "VHD"},
                                                 {"vhd", "full", "VHD"},
                                                 {"vhdx", "sparse", "VHDX"}}};

void PrintTo(const Target& target, std::ostream* out) {
  *out << target.format << " " << target.store;
}

class RecastTo : public testing::TestWithParam<Target> {};

ProgramResult recast_to(const std::string& from, const std::string& to, const Target& target) {
  Words command{"recast", from, to, "--form", target.format, "--store", target.store};
  if (target.pieces) command.emplace_back("--pieces");
  return juneheath(command);
}

TEST_P(RecastTo, AndBack) {
  SKIP_UNLESS_TAKEN(3)
  const TempFolder folder;
  const std::string first = folder / "first.vmdk";
  const ProgramResult made = recast_to(unpack_container("v3.qcow2", folder), first, GetParam());
  ASSERT_EQ(made.status, 0) << made.err;
  expect_status(0, {"audit", first});
  const std::string raw = recast_raw(first, folder / "raw.img");
  EXPECT_EQ(sha256_of(raw), sample_sha256);
  if (*GetParam().archiver != '\0') {
    EXPECT_EQ(archiver_difference(GetParam().archiver, first, raw), "");
  }
  // 5 MiB are in use; a block that is not quite empty costs a whole one at most.
  EXPECT_LT(allocated(raw), 8U << 20);
  if (std::string(GetParam().store) == "sparse" && !GetParam().pieces) {
    EXPECT_LT(allocated(first), 8U << 20);
  }
  if (std::string(GetParam().store) == "full" && std::string(GetParam().format) != "vmdk") {
    EXPECT_GE(allocated(first), 192U << 20);
  }
}

INSTANTIATE_TEST_SUITE_P(Forms, RecastTo, testing::ValuesIn(recast_targets), [](const auto& param) {
  return fmt::format("{}_{}{}", param.param.format, param.param.store,
                     param.param.pieces ? "_pieces" : "");
});

TEST(Recast, TheSameInputGivesTheSameBytes) {
  const TempFolder folder;
  const std::string from = unpack_container("sparse.vmdk", folder);
  for (const Target& target : recast_targets) {
    // Forms with an identity get a new one from an image that has none.
    const std::string format = target.format;
    if (format == "vdi" || format == "vhd" || format == "vhdx" || target.pieces ||
        (format == "vmdk" && std::string(target.store) == "full"))
      continue;
    const TempFolder one;
    const TempFolder two;
    ASSERT_EQ(recast_to(from, one / "image", target).status, 0);
    ASSERT_EQ(recast_to(from, two / "image", target).status, 0);
    EXPECT_EQ(digests(one), digests(two)) << format << target.store;
  }
  // Across forms the identity stays, and so do the bytes.
  const std::string vdi = unpack_container("dyn.vdi", folder);
  const TempFolder vhds;
  for (const char* name : {"one.vhd", "two.vhd"})
    ASSERT_TRUE(juneheath({"recast", vdi, vhds / name}).said("keeps the disk's identity"));
  EXPECT_EQ(file_digest(vhds / "one.vhd"), file_digest(vhds / "two.vhd"));
  expect_said({"recast", vdi, vhds / "other.vdi"}, {"identity of its own"});
}

TEST(Recast, RefusalsLeaveNothingBehind) {
  const TempFolder folder;
  const std::string image = unpack_container("v3.qcow2", folder);
  write_file(folder / "taken.img", "mine");
  const auto before = digests(folder);
  expect_status(3, {"recast", image, folder / "taken.img"});
  expect_status(6, {"recast", image, folder / "new.vdi", "--store", "packed"});
  expect_status(6, {"recast", image, folder / "new.qcow2", "--store", "full"});
  expect_status(2, {"recast", image, folder / "new", "--form", "floppy"});
  expect_status(2, {"recast", image});
  expect_status(5, {"recast", image, folder / "no-such-folder/x/new.vdi", "--dry-run"});
  expect_status(0, {"recast", image, folder / "new.vdi", "--dry-run"});
  EXPECT_EQ(digests(folder), before);
}

TEST(Recast, SparseAndFullInPlace) {
  for (const char* name : {"dyn.vdi", "small.vhdx", "v3.raw"}) {
    SCOPED_TRACE(name);
    const TempFolder folder;
    std::string image;
    if (std::string(name) == "v3.raw") {
      image = folder / "guest.img";
      succeeds({"recast", unpack_container("v3.qcow2", folder), image});
    } else {
      image = unpack_container(name, folder);
    }
    const std::uint32_t before = file_digest(image);
    const auto expect_same_disk = [&] {
      const TempFolder scratch;
      EXPECT_EQ(sha256_of(recast_raw(image, scratch / "raw.img")), sample_sha256) << name;
      EXPECT_EQ(juneheath({"audit", image}).status, 0) << name;
    };
    const ProgramResult full = succeeds({"recast", image, "--store", "full"});
    EXPECT_GE(allocated(image), 192U << 20) << name;
    EXPECT_TRUE(juneheath({"survey", image}).said(", full")) << name;
    expect_same_disk();
    if (std::string(name) != "v3.raw") {
      EXPECT_EQ(juneheath({"undo", image}).status, 0) << name;
      EXPECT_EQ(file_digest(image), before) << name;
      ASSERT_EQ(juneheath({"recast", image, "--store", "full"}).status, 0) << name;
    }
    ASSERT_EQ(juneheath({"recast", image, "--store", "sparse"}).status, 0) << name;
    EXPECT_TRUE(juneheath({"survey", image}).said(", sparse")) << name;
    expect_same_disk();
    if (std::string(name) == "v3.raw") {
      EXPECT_LT(allocated(image), 8U << 20);
      EXPECT_EQ(file_digest(image), before);
    }
  }
  const TempFolder folder;
  const std::string image = unpack_container("dyn.vhd", folder);
  expect_status(6, {"recast", image, "--store", "full"}, {"recast " + image + " NEW --store full"});
}

}  // namespace
}  // namespace jh::test
