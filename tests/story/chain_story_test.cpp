// Images that build on others, keep snapshots, are in use, or lie in several files: what stands in
// the way of a change, and the ways out. Nothing may be written when a change is refused.
#include <fcntl.h>
#include <unistd.h>

#include "support/containers.h"
#include "support/qcow2_snapshots.h"
#include "support/test.h"

namespace jh::test {
namespace {

class Chain : public testing::Test {
 protected:
  std::string unpack(const std::string& name) { return unpack_container(name, folder_); }
  std::map<std::string, std::uint32_t> state() const {
    std::map<std::string, std::uint32_t> sums;
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (entry.is_regular_file())
        sums[entry.path().filename().string()] = file_digest(entry.path().string());
    return sums;
  }
  std::string raw_of(const std::string& image) {
    return recast_raw(image, scratch_ / fmt::format("raw{}.img", number_++));
  }

  TempFolder folder_;
  TempFolder scratch_;
  int number_ = 0;
};

// Forms that ask for one size in all of a chain; qcow2 does not.
TEST_F(Chain, ParentsAreReadThroughAndNeverWritten) {
  for (const auto& [parent, child] :
       Facts{{"base.qcow2", "overlay.qcow2"}, {"parent.vmdk", "delta.vmdk"}}) {
    const std::string below = unpack(parent);
    const std::string image = unpack(child);
    EXPECT_EQ(sha256_of(raw_of(image)), sample_sha256) << child;
    expect_status(0, {"audit", image});
    EXPECT_TRUE(juneheath({"survey", image}).said("builds on")) << child;
    if (child == "delta.vmdk") {
      expect_status(3, {"grow", image, "--by", "1GiB"}, {"the image builds on"});
    } else {
      const std::string was = sha256_of(below);
      succeeds({"grow", image, "--by", "1GiB"});
      EXPECT_EQ(check_ext(raw_of(image), 1048576), "");
      EXPECT_EQ(sha256_of(below), was);
      succeeds({"undo", image, "--yes"});
      EXPECT_EQ(sha256_of(raw_of(image)), sample_sha256);
    }
    expect_status(3, {"grow", below, "--by", "1GiB"}, {"builds on this image"});
  }
}

TEST_F(Chain, TheMergedDiskGoesIntoANewImage) {
  unpack("base.qcow2");
  const std::string image = unpack("overlay.qcow2");
  const auto before = state();
  const std::string out = scratch_ / "whole.qcow2";
  succeeds({"grow", image, "--to", "1GiB", "--into", out});
  EXPECT_EQ(state(), before);
  expect_status(0, {"audit", out});
  const std::string raw = raw_of(out);
  EXPECT_EQ(files::file_size(raw), 1ULL << 30);
  EXPECT_EQ(check_ext(raw, 1048576), "");
  EXPECT_FALSE(juneheath({"survey", out}).said("builds on"));
  expect_status(3, {"grow", image, "--to", "1GiB", "--into", out}, {"taken already"});
}

TEST_F(Chain, ACopyHasAnIdentityOfItsOwn) {
  for (const char* name : {"dyn.vdi", "fixed.vhd", "small.vhdx"}) {
    const std::string image = unpack(name);
    const auto before = state();
    const std::string out = scratch_ / name;
    ASSERT_EQ(juneheath({"grow", image, "--to", "1GiB", "--into", out}).status, 0) << name;
    EXPECT_EQ(state(), before);
    const auto identity = [](const std::string& path) {
      const std::string document = juneheath({"survey", path, "--json"}).out;
      const std::size_t at = document.find("\"identity\"");
      return document.substr(at, document.find('\n', at) - at);
    };
    EXPECT_NE(identity(image), identity(out)) << name;
    EXPECT_EQ(check_ext(raw_of(out), 1048576), "") << name;
  }
}

TEST_F(Chain, AMissingParentIsNamed) {
  const std::string image = unpack("overlay.qcow2");
  expect_status(3, {"survey", image}, {"base.qcow2"});
  const std::string delta = unpack("delta.vmdk");
  expect_status(3, {"recast", delta, scratch_ / "new.vmdk"}, {"parent.vmdk"});
}

TEST_F(Chain, AParentThatChangedIsFound) {
  const std::string parent = unpack("parent.vmdk");
  const std::string image = unpack("delta.vmdk");
  // Another content, another number: CID=973ea093 in the descriptor.
  const std::size_t at = read_file(parent).find("CID=973ea093");
  ASSERT_NE(at, std::string::npos);
  poke(parent, at + 4, "973ea094");
  expect_status(3, {"survey", image}, {"was changed since"});
}

TEST_F(Chain, AChainThatComesBackToItselfEnds) {
  const std::string image = unpack("overlay.qcow2");
  // base.qcow2 is the overlay itself, under the name that it looks for.
  files::copy_file(image, folder_ / "base.qcow2");
  expect_status(3, {"survey", image}, {"builds on itself"});
}

// Made by a hypervisor, and written to since.
TEST_F(Chain, SnapshotsInsideAreListedAndStay) {
  const std::string image = unpack("snap.qcow2");
  expect_said({"survey", image}, {"snapshot 1 \"before-season\""});
  const auto was = read_snapshots(image);
  const std::string before = sha256_of(raw_of(image));
  expect_status(0, {"audit", image});
  succeeds({"grow", image, "--by", "1GiB"});
  EXPECT_EQ(check_counts(image), "");
  EXPECT_EQ(check_ext(raw_of(image), 1048576), "");
  EXPECT_TRUE(read_snapshots(image) == was);
  succeeds({"undo", image, "--yes"});
  EXPECT_EQ(sha256_of(raw_of(image)), before);
  const std::string out = scratch_ / "without.qcow2";
  succeeds({"recast", image, out});
  succeeds({"grow", out, "--by", "1GiB"});
  EXPECT_EQ(check_ext(raw_of(out), 1048576), "");
}

TEST_F(Chain, AStreamIsReadButNotChangedInPlace) {
  const std::string image = unpack("stream.vmdk");
  EXPECT_EQ(sha256_of(raw_of(image)), sample_sha256);
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"stream of compressed grains"});
  const std::string out = scratch_ / "whole.vmdk";
  succeeds({"grow", image, "--to", "1GiB", "--into", out});
  EXPECT_EQ(check_ext(raw_of(out), 1048576), "");
}

TEST_F(Chain, LocksOfHypervisorsAreHonoured) {
  const std::string image = unpack("sparse.vmdk");
  files::create_directory(image + ".lck");
  succeeds({"grow", image, "--by", "1GiB", "--dry-run"});
  write_file(image + ".lck/M12345.lck", "held");
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"a lock of a hypervisor lies beside"});
  files::remove_all(image + ".lck");
  write_file(image + ".lock", "");
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"a lock of a hypervisor lies beside"});
  files::remove(image + ".lock");
  // One byte of it, as hypervisors lock images that they have open.
  const int fd = ::open(image.c_str(), O_RDWR);
  struct flock range {};
  range.l_type = F_RDLCK;
  range.l_start = 201;
  range.l_len = 1;
  ASSERT_EQ(::fcntl(fd, F_OFD_SETLK, &range), 0);
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"process"});
  expect_status(3, {"recast", image, scratch_ / "new.img"}, {"open in process"});
  ::close(fd);
  // Reading beside a reader is no trouble.
  const int reader = ::open(image.c_str(), O_RDONLY);
  expect_status(0, {"recast", image, scratch_ / "new.img"});
  ::close(reader);
}

TEST_F(Chain, ALockOnAPartOfTheDiskCountsToo) {
  const std::string image = unpack("monolithicFlat.vmdk");
  const int fd = ::open((folder_ / "monolithicFlat-ext.vmdk").c_str(), O_RDWR);
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"open in process"});
  ::close(fd);
}

TEST_F(Chain, PartsThatAreMissingOrElsewhere) {
  const std::string image = unpack("monolithicFlat.vmdk");
  const std::string part = folder_ / "monolithicFlat-ext.vmdk";
  expect_status(0, {"survey", part}, {""});  // by itself it is a raw disk
  const std::string text = read_file(image);
  // A descriptor that names a file of the host elsewhere is not to make us write there.
  const std::string elsewhere = scratch_ / "precious.img";
  files::copy_file(part, elsewhere);
  std::string other = text.substr(0, text.find('\0'));
  other.replace(other.find("monolithicFlat-ext.vmdk"), 23, elsewhere);
  write_file(image, other);
  expect_status(3, {"grow", image, "--by", "1GiB"}, {"outside of the image's folder"});
  expect_status(3, {"compact", image, "--yes"}, {"outside of the image's folder"});
  write_file(image, text);
  files::remove(part);
  expect_status(3, {"survey", image}, {"a part of the disk is not there"});
}

TEST_F(Chain, ABackupOfSeveralFilesIsAFolder) {
  const std::string image = unpack("twoGbMaxExtentFlat.vmdk");
  const std::string backup = scratch_ / "backup";
  succeeds({"grow", image, "--to", "1GiB", "--backup", backup});
  EXPECT_EQ(sha256_of(raw_of(backup + "/twoGbMaxExtentFlat.vmdk")), sample_sha256);
  const std::string single = unpack("dyn.vhd");
  const std::uint32_t before = file_digest(single);
  succeeds({"grow", single, "--to", "1GiB", "--backup", scratch_ / "b.vhd"});
  EXPECT_EQ(file_digest(scratch_ / "b.vhd"), before);
}

TEST_F(Chain, PiecesGrowByFurtherPiecesAndUndoRemovesThem) {
  for (const char* name : {"twoGbMaxExtentSparse.vmdk", "twoGbMaxExtentFlat.vmdk"}) {
    const std::string image = unpack(name);
    const auto before = state();
    succeeds({"grow", image, "--to", "5GiB"});
    for (const char* number : {"002", "003"})
      EXPECT_TRUE(files::exists(image.substr(0, image.size() - 5) + "-ext-" +
                                (std::string(name).find("Flat") != std::string::npos ? "f" : "s") +
                                number + ".vmdk"))
          << number;
    expect_said({"survey", image}, {"3 pieces of two gigabytes"});
    expect_status(0, {"audit", image});
    EXPECT_EQ(check_ext(raw_of(image), 1048576), "");
    expect_status(0, {"undo", image});
    EXPECT_EQ(state(), before);
  }
}

TEST_F(Chain, CountsThatWereLeftBehindAreRebuilt) {
  const std::string image = unpack("lazy.qcow2");
  // Marked as dirty, with all counts lost.
  const std::string header = read_file(image).substr(0, 64);
  std::uint64_t table = 0;
  for (int i = 48; i < 56; ++i) table = table << 8 | static_cast<std::uint8_t>(header[i]);
  std::uint64_t block = 0;
  const std::string entry = read_file(image).substr(table, 8);
  for (const char c : entry) block = block << 8 | static_cast<std::uint8_t>(c);
  poke(image, block, std::string(4096, '\0'));
  expect_status(4, {"audit", image});
  poke(image, 79, "\1");
  const ProgramResult audit = expect_status(0, {"audit", image}, {"rebuild the reference counts"});
  const auto before = state();
  succeeds({"grow", image, "--to", "1GiB"}, {"rebuild the reference counts"});
  EXPECT_FALSE(juneheath({"survey", image}).said("rebuild"));
  expect_status(0, {"audit", image});
  EXPECT_EQ(check_ext(raw_of(image), 1048576), "");
  expect_status(0, {"undo", image});
  EXPECT_EQ(state(), before);
}

TEST_F(Chain, AnEncryptedImageGrowsWithoutBeingLookedInto) {
  const std::string image = unpack("v3.qcow2");
  poke(image, 32, std::string("\0\0\0\1", 4));
  expect_said({"survey", image}, {"encrypted content"});
  expect_status(6, {"recast", image, scratch_ / "new.img"}, {"encrypted"});
  const auto before = state();
  succeeds({"grow", image, "--to", "1GiB", "--give", "nothing"});
  expect_status(0, {"audit", image});
  expect_said({"survey", image}, {"the guest sees 1 GiB"});
  expect_status(0, {"undo", image});
  EXPECT_EQ(state(), before);
}

// Disks at the edge of what the forms can hold: made, grown, and refused one step further.
TEST_F(Chain, TheFormsReachTheirLimits) {
  SKIP_UNLESS_TAKEN(3)
  struct Limit {
    const char* format;
    const char* from;
    const char* to;
    const char* beyond;
    long memory = 64;  // MiB
  };
  const std::vector<Limit> limits{
      {"vhd", "100GiB", "2040GiB", "2041GiB"}, {"vhdx", "1TiB", "64TiB", "65TiB"},
      {"qcow2", "1TiB", "100TiB", ""},         {"vdi", "1GiB", "2TiB", ""},
      {"vdi", "1GiB", "32TiB", "33TiB", 192},  // its map: 128 MiB
      {"vmdk", "1GiB", "1.9TiB", "2TiB"}};
  for (const Limit& limit : limits) {
    SCOPED_TRACE(limit.format);
    const std::string raw = scratch_ / "empty.img";
    files::remove(raw);
    run({"truncate", "-s", std::string(limit.from).substr(0, std::string(limit.from).find('i')),
         raw});
    const std::string image = folder_ / (std::string("large.") + limit.format);
    ASSERT_EQ(juneheath({"recast", raw, image}).status, 0) << limit.format;
    const std::uint32_t before = limit.format == std::string("vdi") ? file_digest(image) : 0;
    const ProgramResult grown =
        expect_status(0, {"grow", image, "--to", limit.to, "--give", "nothing", "--proof", "full"});
    EXPECT_TRUE(is_sanitized || grown.peak_mib <= limit.memory)
        << limit.format << " to " << limit.to;
    EXPECT_EQ(juneheath({"audit", image}).status, 0) << limit.format;
    if (*limit.beyond != '\0') {
      const ProgramResult refused =
          juneheath({"grow", image, "--to", limit.beyond, "--give", "nothing"});
      EXPECT_EQ(refused.status, 3) << limit.format;
      EXPECT_TRUE(refused.said("at most")) << refused.err;
    }
    EXPECT_EQ(juneheath({"undo", image}).status, 0) << limit.format;
    if (before != 0) {
      EXPECT_EQ(file_digest(image), before);
    }
    files::remove(image);
  }
}

}  // namespace
}  // namespace jh::test
