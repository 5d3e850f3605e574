// The way down and up again through the built program: every sample guest, in every form, to its
// floor and back; judged by the system's checker, its kernel, and an archiver's reader.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "support/guest_story.h"
#include "support/judges.h"
#include "support/program.h"
#include "support/samples.h"
#include "support/share.h"
#include "support/tree.h"
#include "support/volumes.h"

namespace jh::test {
namespace {

namespace files = std::filesystem;
using Words = std::vector<std::string>;
using Shrunk = GuestStory;

struct GuestCase {
  std::string sample;
  std::string format;
  std::string store;
  std::string give;  // who gets the room on the way back
};

void PrintTo(const GuestCase& item, std::ostream* out) {
  *out << item.sample << " " << item.format << " " << item.store;
}

class ShrinkStory : public GuestStory, public testing::WithParamInterface<GuestCase> {};

TEST_P(ShrinkStory, ToTheFloorAndBack) {
  SKIP_UNLESS_TAKEN(4)
  const GuestCase& item = GetParam();
  const std::string raw = folder_ / "guest.img";
  unpack_sample(item.sample, raw);
  const std::uint64_t size = files::file_size(raw);
  const auto before = trees({raw});
  std::string image = raw;
  if (item.format != "raw") {
    image = folder_ / ("guest." + item.format);
    ASSERT_EQ(
        juneheath({"recast", raw, image, "--form", item.format, "--store", item.store}).status, 0);
  }
  const auto as_raw = [&] {
    return item.format == "raw" ? image : recast_raw(image, folder_ / "copy.img");
  };
  const std::uint32_t digest = file_digest(image);
  const std::uint64_t length = files::file_size(image);

  const bool beside = item.format == "vmdk" && item.store == "full";  // a descriptor, and the disk
  const ProgramResult asked = juneheath({"shrink", image, "--to", "floor"});
  EXPECT_EQ(asked.status, 3) << "without --yes, and nobody to ask";
  EXPECT_EQ(file_digest(image), digest);
  const ProgramResult shrunk = juneheath({"shrink", image, "--to", "floor", "--yes"});
  ASSERT_EQ(shrunk.status, 0) << shrunk.out << shrunk.err;
  if (!beside) {
    EXPECT_LT(files::file_size(image), length);
  }
  expect_audit_clean({image});
  expect_same({as_raw()}, before);
  if (item.format != "raw" && !beside) {
    EXPECT_EQ(archiver_difference(item.format == "qcow2" ? "qcow" : item.format, image, as_raw()),
              "");
  }
  const std::uint64_t floor = files::file_size(as_raw());
  EXPECT_LT(floor, size);

  // Half a MiB less would be too little: nothing happens.
  const std::uint32_t digest_small = file_digest(image);
  const ProgramResult less = juneheath({"shrink", image, "--by", "2MiB", "--yes"});
  EXPECT_EQ(less.status, 3) << less.out;
  EXPECT_TRUE(less.said("floor")) << less.err;
  EXPECT_EQ(file_digest(image), digest_small);

  const ProgramResult undone = juneheath({"undo", image});
  ASSERT_EQ(undone.status, 0) << undone.err;
  EXPECT_EQ(file_digest(image), digest);
  EXPECT_EQ(files::file_size(image), length);

  ASSERT_EQ(juneheath({"shrink", image, "--to", "floor", "--yes", "--no-undo"}).status, 0);
  const ProgramResult grown =
      juneheath({"grow", image, "--to", std::to_string(size), "--give", item.give});
  ASSERT_EQ(grown.status, 0) << grown.err;
  expect_audit_clean({image});
  expect_same({as_raw()}, before);
}

std::vector<GuestCase> cases() {
  std::vector<GuestCase> all;
  const std::vector<std::pair<std::string, std::string>> samples{{"heather", "/"},
                                                                 {"nestcam", "/"},
                                                                 {"mbr-extended", "/srv"},
                                                                 {"mbr-boot-lvm", "/"},
                                                                 {"fieldstation", "/var/log"},
                                                                 {"whole-disk-pv", "bare/data"}};
  for (const auto& [sample, give] : samples) all.push_back({sample, "raw", "", give});
  for (const auto& [format, store] :
       std::vector<std::pair<std::string, std::string>>{{"qcow2", "sparse"},
                                                        {"vdi", "sparse"},
                                                        {"vdi", "full"},
                                                        {"vmdk", "sparse"},
                                                        {"vmdk", "full"},
                                                        {"vhd", "sparse"},
                                                        {"vhd", "full"},
                                                        {"vhdx", "sparse"},
                                                        {"vhdx", "full"}}) {
    all.push_back({"fieldstation", format, store, "/var/log"});
    all.push_back({"mbr-extended", format, store, "/srv"});
    all.push_back({"mbr-boot-lvm", format, store, "/"});
    all.push_back({"nestcam", format, store, "/"});
  }
  return all;
}

INSTANTIATE_TEST_SUITE_P(Guests, ShrinkStory, testing::ValuesIn(cases()), [](const auto& test) {
  std::string name = test.param.sample + "_" + test.param.format + "_" + test.param.store;
  for (char& c : name)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  return name;
});

class TwoDisks : public GuestStory, public testing::WithParamInterface<const char*> {
 protected:
  void SetUp() override {
    const std::string format = GetParam();
    for (const char letter : {'a', 'b'}) {
      const std::string raw = folder_ / fmt::format("{}.img", letter);
      unpack_sample(fmt::format("two-disk-{}", letter), raw);
      raw_.push_back(raw);
      images_.push_back(raw);
      if (format == "raw") continue;
      images_.back() = folder_ / fmt::format("{}.{}", letter, format);
      ASSERT_EQ(juneheath({"recast", raw, images_.back(), "--form", format}).status, 0);
    }
  }
  // The disks as raw images, as they are now.
  Words now() {
    if (images_ == raw_) return images_;
    for (std::size_t i = 0; i < images_.size(); ++i) {
      recast_raw(images_[i], raw_[i]);
      const std::string format = GetParam();
      EXPECT_EQ(archiver_difference(format == "qcow2" ? "qcow" : format, images_[i], raw_[i]), "");
    }
    return raw_;
  }
  Words raw_;
  Words images_;
};

// A group over two disks: one of them becomes smaller.
TEST_P(TwoDisks, OneBecomesSmaller) {
  SKIP_UNLESS_TAKEN(3)
  const Words& images = images_;
  const Words digests{std::to_string(file_digest(images[0])),
                      std::to_string(file_digest(images[1]))};
  const auto before = trees(now());
  const ProgramResult which = run_on("shrink", images, {"--to", "floor", "--yes"});
  EXPECT_EQ(which.status, 3);
  EXPECT_TRUE(which.said("--disk 2")) << which.err;

  const ProgramResult shrunk = run_on("shrink", images, {"--to", "floor", "--disk", "1", "--yes"});
  ASSERT_EQ(shrunk.status, 0) << shrunk.out << shrunk.err;
  EXPECT_LT(files::file_size(now()[0]), 320ULL << 20);
  expect_audit_clean(images);
  expect_same(now(), before);
  const ProgramResult back =
      run_on("grow", images, {"--to", "320MiB", "--disk", "1", "--give", "twodisk/store"});
  ASSERT_EQ(back.status, 0) << back.err;
  expect_same(now(), before);
  const ProgramResult undone = juneheath({"undo", images[0], images[1]});
  ASSERT_EQ(undone.status, 0) << undone.err;
  expect_same(now(), before);
}

TEST_P(TwoDisks, OneLeavesTheGroup) {
  const Words& images = images_;
  const std::vector<std::uint32_t> digests{file_digest(images[0]), file_digest(images[1])};
  const auto before = trees(now());
  const ProgramResult first = run_on(
      "shrink", images,
      {"--remove-disk", "2", "--yes", "--take", "twodisk/store", "--take", "twodisk/striped"});
  ASSERT_EQ(first.status, 0) << first.out << first.err;
  EXPECT_TRUE(first.said("detach")) << first.out;
  // The first disk alone is the whole group now.
  expect_audit_clean({images[0]});
  const auto left = trees({now()[0]});
  for (const std::string volume : {"twodisk/store", "twodisk/striped"})
    EXPECT_EQ(tree_difference(before.at(volume), left.at(volume)), "") << volume;
  const ProgramResult undone = juneheath({"undo", images[0], images[1]});
  ASSERT_EQ(undone.status, 0) << undone.err;
  EXPECT_EQ(file_digest(images[0]), digests[0]);
  EXPECT_EQ(file_digest(images[1]), digests[1]);
}

INSTANTIATE_TEST_SUITE_P(Forms, TwoDisks,
                         testing::Values("raw", "qcow2", "vdi", "vmdk", "vhd", "vhdx"),
                         [](const auto& test) { return std::string(test.param); });

// Only a volume becomes smaller; the room stays in the group. Another gets it.
TEST_F(Shrunk, AVolumeLosesWhatAnotherGets) {
  const std::string image = folder_ / "guest.img";
  unpack_sample("fieldstation", image);
  const auto before = trees({image});
  const ProgramResult taken = juneheath({"shrink", image, "--take", "/home=100MiB", "--yes"});
  ASSERT_EQ(taken.status, 0) << taken.out << taken.err;
  EXPECT_EQ(files::file_size(image), 768ULL << 20);
  expect_same({image}, before);
  const ProgramResult given = juneheath({"grow", image, "--give", "/var/log=200MiB"});
  ASSERT_EQ(given.status, 0) << given.err;
  expect_same({image}, before);
  const ProgramResult too_much = juneheath({"shrink", image, "--take", "/home=100MiB", "--yes"});
  EXPECT_EQ(too_much.status, 3);
  EXPECT_TRUE(too_much.said("can lose")) << too_much.err;
}

// Flat extents may share a file: what the last one gives up is cut off, the others keep theirs.
TEST_F(Shrunk, ExtentsThatShareAFile) {
  const std::string raw = folder_ / "guest.img";
  const std::string image = folder_ / "guest.vmdk";
  unpack_sample("nestcam", raw);
  const std::uint64_t small = files::file_size(raw);
  ASSERT_EQ(juneheath({"grow", raw, "--to", "1GiB", "--no-undo", "--yes"}).status, 0);
  const auto before = trees({raw});
  std::ofstream(image) << "# Disk DescriptorFile\nversion=1\nCID=4711abcd\nparentCID=ffffffff\n"
                          "createType=\"custom\"\nRW 1500000 FLAT \"guest.img\" 0\n"
                          "RW 597152 FLAT \"guest.img\" 1500000\n";
  const std::uint32_t digest = file_digest(raw);
  const ProgramResult shrunk = juneheath({"shrink", image, "--to", "floor", "--yes"});
  ASSERT_EQ(shrunk.status, 0) << shrunk.out << shrunk.err;
  EXPECT_LE(files::file_size(raw), small);
  expect_audit_clean({image});
  expect_same({raw}, before);
  ASSERT_EQ(juneheath({"undo", image}).status, 0);
  EXPECT_EQ(file_digest(raw), digest);
  ASSERT_EQ(juneheath({"shrink", image, "--to", "500MiB", "--yes"}).status, 0);
  EXPECT_EQ(files::file_size(raw), 500ULL << 20);
  ASSERT_EQ(juneheath({"grow", image, "--to", "2GiB", "--yes"}).status, 0);
  EXPECT_EQ(files::file_size(raw), 2ULL << 30);
  expect_audit_clean({image});
  expect_same({raw}, before);
}

// Pieces that lie behind the end are empty and stay for an undo; without one they go.
TEST_F(Shrunk, PiecesBehindTheEndGo) {
  const std::string raw = folder_ / "guest.img";
  const std::string image = folder_ / "guest.vmdk";
  unpack_sample("nestcam", raw);
  ASSERT_EQ(juneheath({"grow", raw, "--to", "5GiB", "--no-undo", "--yes"}).status, 0);
  const auto before = trees({raw});
  const ProgramResult recast = juneheath({"recast", raw, image, "--pieces"});
  ASSERT_EQ(recast.status, 0) << recast.err;
  const auto pieces = [&] {
    std::map<std::string, std::uint64_t> sizes;
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (const std::string name = entry.path().filename();
          name.starts_with("guest-") && name.ends_with(".vmdk"))
        sizes[name] = entry.file_size();
    return sizes;
  };
  const auto all = pieces();
  ASSERT_EQ(all.size(), 3U);
  const Words smaller{"shrink", image, "--to", "1GiB", "--yes"};
  const ProgramResult shrunk = juneheath(smaller);
  ASSERT_EQ(shrunk.status, 0) << shrunk.err;
  EXPECT_TRUE(shrunk.said("stays, empty, for the undo")) << shrunk.out;
  EXPECT_EQ(std::next(pieces().begin())->second, 0U);
  EXPECT_EQ(std::prev(pieces().end())->second, 0U);
  ASSERT_EQ(juneheath({"undo", image}).status, 0);
  EXPECT_EQ(pieces(), all);

  Words for_good = smaller;
  for_good.push_back("--no-undo");
  const ProgramResult gone = juneheath(for_good);
  ASSERT_EQ(gone.status, 0) << gone.err;
  EXPECT_TRUE(gone.said("it is removed")) << gone.out;
  EXPECT_EQ(pieces().size(), 1U);
  expect_audit_clean({image});
  // What is left of an undo that nobody wants any more is not in the way of growing again.
  for (const bool undoable : {true, false}) {
    const ProgramResult grown = juneheath({"grow", image, "--to", "5GiB", "--yes"});
    ASSERT_EQ(grown.status, 0) << grown.err;
    EXPECT_EQ(pieces().size(), 3U);
    const ProgramResult again = juneheath(undoable ? smaller : for_good);
    ASSERT_EQ(again.status, 0) << again.err;
  }
  expect_audit_clean({image});
  files::remove(raw);
  ASSERT_EQ(juneheath({"recast", image, raw}).status, 0);
  expect_same({raw}, before);
}

// Several volumes could lose what is missing: it is said, and nothing done.
TEST_F(Shrunk, IsNotGuessed) {
  const std::string image = folder_ / "guest.img";
  unpack_sample("fieldstation", image);
  const std::uint32_t digest = file_digest(image);
  const ProgramResult which = juneheath({"shrink", image, "--to", "600MiB", "--yes"});
  EXPECT_EQ(which.status, 3);
  EXPECT_TRUE(which.said("--take /home=")) << which.err;
  EXPECT_TRUE(which.said("--take /=")) << which.err;
  EXPECT_EQ(file_digest(image), digest);
  const ProgramResult into = juneheath({"shrink", image, "--to", "600MiB", "--take", "/home=68MiB",
                                        "--into", folder_ / "small.qcow2", "--yes"});
  EXPECT_EQ(into.status, 0) << into.out << into.err;
  EXPECT_EQ(file_digest(image), digest);
}

}  // namespace
}  // namespace jh::test
