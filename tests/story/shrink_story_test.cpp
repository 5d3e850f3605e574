// The way down and up again through the built program: every sample guest, in every form, to its
// floor and back; judged by the system's checker, its kernel, and an archiver's reader.
#include "support/guest_story.h"
#include "support/test.h"
#include "support/tree.h"
#include "support/volumes.h"

namespace jh::test {
namespace {

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
  const std::string raw = unpack_sample(item.sample, folder_ / "guest.img");
  const std::uint64_t size = files::file_size(raw);
  const auto before = trees({raw});
  std::string image = raw;
  if (item.format != "raw") {
    image = folder_ / ("guest." + item.format);
    succeeds({"recast", raw, image, "--form", item.format, "--store", item.store});
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
  succeeds({"shrink", image, "--to", "floor", "--yes"});
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
  expect_status(3, {"shrink", image, "--by", "2MiB", "--yes"}, {"floor"});

  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), digest);
  EXPECT_EQ(files::file_size(image), length);

  succeeds({"shrink", image, "--to", "floor", "--yes", "--no-undo"});
  succeeds({"grow", image, "--to", std::to_string(size), "--give", item.give});
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
      const std::string raw = unpack_sample(fmt::format("two-disk-{}", letter),
                                            folder_ / fmt::format("{}.img", letter));
      raw_.push_back(raw);
      images_.push_back(raw);
      if (format == "raw") continue;
      images_.back() = folder_ / fmt::format("{}.{}", letter, format);
      succeeds({"recast", raw, images_.back(), "--form", format});
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
  succeeds({"undo", images[0], images[1]});
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
  succeeds({"undo", images[0], images[1]});
  EXPECT_EQ(file_digest(images[0]), digests[0]);
  EXPECT_EQ(file_digest(images[1]), digests[1]);
}

INSTANTIATE_TEST_SUITE_P(Forms, TwoDisks,
                         testing::Values("raw", "qcow2", "vdi", "vmdk", "vhd", "vhdx"), by_name);

// Only a volume becomes smaller; the room stays in the group. Another gets it.
TEST_F(Shrunk, AVolumeLosesWhatAnotherGets) {
  const std::string image = unpack_sample("fieldstation", folder_ / "guest.img");
  const auto before = trees({image});
  succeeds({"shrink", image, "--take", "/home=100MiB", "--yes"});
  EXPECT_EQ(files::file_size(image), 768ULL << 20);
  expect_same({image}, before);
  succeeds({"grow", image, "--give", "/var/log=200MiB"});
  expect_same({image}, before);
  expect_status(3, {"shrink", image, "--take", "/home=100MiB", "--yes"}, {"can lose"});
}

// Flat extents may share a file: what the last one gives up is cut off, the others keep theirs.
TEST_F(Shrunk, ExtentsThatShareAFile) {
  const std::string raw = folder_ / "guest.img";
  const std::string image = folder_ / "guest.vmdk";
  unpack_sample("nestcam", raw);
  const std::uint64_t small = files::file_size(raw);
  succeeds({"grow", raw, "--to", "1GiB", "--no-undo", "--yes"});
  const auto before = trees({raw});
  std::ofstream(image) << "# Disk DescriptorFile\nversion=1\nCID=4711abcd\nparentCID=ffffffff\n"
                          "createType=\"custom\"\nRW 1500000 FLAT \"guest.img\" 0\n"
                          "RW 597152 FLAT \"guest.img\" 1500000\n";
  const std::uint32_t digest = file_digest(raw);
  succeeds({"shrink", image, "--to", "floor", "--yes"});
  EXPECT_LE(files::file_size(raw), small);
  expect_audit_clean({image});
  expect_same({raw}, before);
  succeeds({"undo", image});
  EXPECT_EQ(file_digest(raw), digest);
  succeeds({"shrink", image, "--to", "500MiB", "--yes"});
  EXPECT_EQ(files::file_size(raw), 500ULL << 20);
  succeeds({"grow", image, "--to", "2GiB", "--yes"});
  EXPECT_EQ(files::file_size(raw), 2ULL << 30);
  expect_audit_clean({image});
  expect_same({raw}, before);
}

// Pieces that lie behind the end are empty and stay for an undo; without one they go.
TEST_F(Shrunk, PiecesBehindTheEndGo) {
  const std::string raw = folder_ / "guest.img";
  const std::string image = folder_ / "guest.vmdk";
  unpack_sample("nestcam", raw);
  succeeds({"grow", raw, "--to", "5GiB", "--no-undo", "--yes"});
  const auto before = trees({raw});
  const ProgramResult recast = succeeds({"recast", raw, image, "--pieces"});
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
  succeeds(smaller, {"stays, empty, for the undo"});
  EXPECT_EQ(std::next(pieces().begin())->second, 0U);
  EXPECT_EQ(std::prev(pieces().end())->second, 0U);
  succeeds({"undo", image});
  EXPECT_EQ(pieces(), all);

  Words for_good = smaller;
  for_good.push_back("--no-undo");
  succeeds(for_good, {"it is removed"});
  EXPECT_EQ(pieces().size(), 1U);
  expect_audit_clean({image});
  // What is left of an undo that nobody wants any more is not in the way of growing again.
  for (const bool undoable : {true, false}) {
    succeeds({"grow", image, "--to", "5GiB", "--yes"});
    EXPECT_EQ(pieces().size(), 3U);
    succeeds(undoable ? smaller : for_good);
  }
  expect_audit_clean({image});
  files::remove(raw);
  succeeds({"recast", image, raw});
  expect_same({raw}, before);
}

// Several volumes could lose what is missing: it is said, and nothing done.
TEST_F(Shrunk, IsNotGuessed) {
  const std::string image = unpack_sample("fieldstation", folder_ / "guest.img");
  const std::uint32_t digest = file_digest(image);
  expect_status(3, {"shrink", image, "--to", "600MiB", "--yes"}, {"--take /home=", "--take /="});
  expect_status(0, {"shrink", image, "--to", "600MiB", "--take", "/home=68MiB", "--into",
                    folder_ / "small.qcow2", "--yes"});
  EXPECT_EQ(file_digest(image), digest);
}

}  // namespace
}  // namespace jh::test
