// Whole new images on hosts whose files share blocks, through the built program. The judges are the
// host's own count of free blocks and readers from outside.
#include <sys/statvfs.h>

#include "core/store/file_store.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct HostKind {
  const char* name;
  std::string (*make)(const std::string&, std::uint64_t, const Words&, bool);
  bool shares;
};
void PrintTo(const HostKind& host, std::ostream* out) { *out << host.name; }

class SharedBlocks : public testing::TestWithParam<HostKind> {
 protected:
  void SetUp() override {
    if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
    const std::string image = outside_ / "host.img";
    GetParam().make(image, 3ULL << 30, {}, false);
    host_ = std::make_unique<Mounted>(image, 0, 0, /*writable=*/true);
    raw_ = at("heather.img");
    unpack_sample("heather", raw_);
    {
      // What is copied can be told from what is shared by the room it takes.
      const Mounted guest(raw_, 1U << 20, 0, /*writable=*/true);
      run({"sh", "-c", "head -c 64M /dev/urandom > " + guest.path() + "/noise"});
    }
    run({"sync", "-f", raw_});
    digest_ = file_digest(raw_);
  }
  void TearDown() override { EXPECT_TRUE(!host_ || file_digest(raw_) == digest_); }

  std::string at(const std::string& name) const { return host_->path() + "/" + name; }
  std::uint64_t host_free() const {
    run({"sync", "-f", raw_});
    struct statvfs facts {};
    EXPECT_EQ(::statvfs(host_->path().c_str(), &facts), 0);
    return std::uint64_t{facts.f_bfree} * facts.f_frsize;
  }
  // Runs it, and looks at what it says and at what the host lost by it.
  ProgramResult expect_shared(Words words, bool shares) {
    const std::uint64_t before = host_free();
    ProgramResult result = juneheath(words);
    EXPECT_EQ(result.status, 0) << result.err;
    EXPECT_EQ(result.said("shared with the image"), shares) << result.out;
    const std::uint64_t after = host_free();
    const std::uint64_t taken = before > after ? before - after : 0;
    // What is full has the room of what is zero as well.
    if (shares && result.said(", full) becomes")) return result;
    if (shares && result.said(", full)\n")) return result;
    if (shares) {
      EXPECT_LT(taken, 16U << 20);
    } else {
      EXPECT_GT(taken, 60U << 20);
    }
    return result;
  }

  const TempFolder outside_;
  std::unique_ptr<Mounted> host_;
  std::string raw_;
  std::uint32_t digest_ = 0;
};

struct Form {
  const char* format;
  const char* archiver;
  Words options;
};

TEST_P(SharedBlocks, IntoEveryFormAndBack) {
  SKIP_UNLESS_ITS_TURN(2)
  const std::vector<Form> forms{{"raw", "", {}},
                                {"qcow2", "qcow", {}},
                                {"vdi", "vdi", {}},
                                {"vmdk", "vmdk", {}},
                                {"vmdk", "", {"--pieces"}},
                                {"vmdk", "", {"--store", "full"}},
                                {"vhd", "vhd", {}},
                                {"vhdx", "", {}}};
  // Copying has tests of its own.
  const std::size_t step = GetParam().shares ? 1 : 3;
  for (std::size_t i = 0; i < forms.size(); i += step) {
    const Form& form = forms[i];
    SCOPED_TRACE(fmt::format("{} {}", form.format, fmt::join(form.options, " ")));
    const std::string image = at(fmt::format("{}.{}", i, form.format));
    Words words = Words{"recast", raw_, image, "--form", form.format} + form.options;
    expect_shared(words, GetParam().shares);
    expect_status(0, {"audit", image});
    if (form.archiver[0] != '\0') {
      EXPECT_EQ(archiver_difference(form.archiver, image, raw_), "");
    }
    const std::string back = at(fmt::format("{}-back.img", i));
    expect_shared({"recast", image, back}, GetParam().shares);
    EXPECT_EQ(file_digest(back), digest_);
    // Who looks for zeros reads everything, and shares the rest all the same.
    const std::string sparse = at(fmt::format("{}-sparse.img", i));
    expect_shared({"recast", image, sparse, "--store", "sparse"}, GetParam().shares);
    EXPECT_EQ(file_digest(sparse), digest_);
    for (const auto& entry : files::directory_iterator(host_->path()))
      if (entry.is_regular_file() && entry.path() != raw_) files::remove(entry.path());
  }
}

// What need not be compared: as long as nobody has written to one of them.
TEST_P(SharedBlocks, AreToldByTheHost) {
  constexpr std::uint64_t mib = 1U << 20;
  const auto one = FileStore::create(at("one"));
  const auto other = FileStore::create(at("other"));
  one->resize(8 * mib);
  other->resize(16 * mib);
  Buffer noise(6 * mib);
  std::mt19937 random(seed_of_run());
  for (std::uint8_t& byte : noise) byte = static_cast<std::uint8_t>(random());
  one->write(0, noise);  // and a hole behind it
  const std::uint64_t shared = other->share(4 * mib, *one, 0, 8 * mib);
  EXPECT_EQ(shared, GetParam().shares ? 8 * mib : 0);
  const std::uint64_t all = GetParam().shares ? 6 * mib : 0;
  EXPECT_EQ(other->same_blocks(4 * mib, *one, 0, 8 * mib), all);
  EXPECT_EQ(one->same_blocks(1000, *other, 4 * mib + 1000, 3 * mib), all == 0 ? 0 : 3 * mib);
  EXPECT_EQ(one->same_blocks(0, *other, 5 * mib, mib), 0U);
  EXPECT_EQ(one->same_blocks(6 * mib, *other, 10 * mib, mib), 0U);
  other->write(7 * mib + 5, Buffer(1, 0x55));
  EXPECT_EQ(other->same_blocks(4 * mib, *one, 0, 6 * mib), all == 0 ? 0 : 3 * mib);
  EXPECT_EQ(other->same_blocks(7 * mib, *one, 3 * mib, 4096), 0U);
  EXPECT_GE(other->same_blocks(8 * mib, *one, 4 * mib, 2 * mib), all == 0 ? 0 : 2 * mib);
}

TEST_P(SharedBlocks, IsLeftOnRequest) {
  const ProgramResult plan = juneheath({"recast", raw_, at("new.qcow2"), "--dry-run"});
  EXPECT_EQ(plan.said("would be shared"), GetParam().shares) << plan.out;
  expect_shared({"recast", raw_, at("new.qcow2"), "--share", "never"}, false);
  EXPECT_EQ(archiver_difference("qcow", at("new.qcow2"), raw_), "");
  expect_shared({"grow", raw_, "--by", "1GiB", "--give", "nothing", "--into", at("grown.img"),
                 "--share", "never"},
                false);
  expect_status(2, {"recast", raw_, at("no.img"), "--share", "sometimes"});
}

// What is changed parts from what it was made of, which stays as it is.
TEST_P(SharedBlocks, CopiesThatAreChangedLeaveTheirOriginalAlone) {
  for (const std::string format : {"raw", "qcow2", "vhd"}) {
    SCOPED_TRACE(format);
    const std::string image = at("guest." + format);
    succeeds({"recast", raw_, image, "--form", format, "--quiet"});
    const std::uint32_t before = file_digest(image);
    expect_shared({"grow", image, "--by", "1GiB", "--into", at("grown." + format)},
                  GetParam().shares);
    expect_shared({"grow", image, "--by", "1GiB", "--backup", at("backup." + format), "--yes"},
                  GetParam().shares);
    EXPECT_EQ(file_digest(at("backup." + format)), before);
    expect_status(0, {"audit", at("grown." + format), "--proof", "full"});
    expect_status(0, {"audit", image, "--proof", "full"});
    expect_status(0, {"undo", image, "--yes"});
    EXPECT_EQ(file_digest(image), before);
    for (const char* name : {"guest.", "grown.", "backup."}) files::remove(at(name + format));
  }
}

// What moves inside of an image moves by sharing too, and its undo takes no room: the guest's
// films, behind what was deleted in front of them.
class MovedBySharing : public SharedBlocks {
 protected:
  void SetUp() override {
    SharedBlocks::SetUp();
    if (!host_) return;
    raw_ = at("films.img");
    unpack_sample("heather", raw_);
    succeeds({"grow", raw_, "--by", "512MiB", "--yes", "--no-undo"});
    {
      const Mounted guest(raw_, 1U << 20, 0, /*writable=*/true);
      run({"sh", "-c",
           "cd " + guest.path() + " && head -c 250M /dev/urandom > old && sync -f old && " +
               "head -c 100M /dev/urandom > films && sync -f films && rm old"});
    }
    digest_ = file_digest(raw_);
    tree_ = tree_of(raw_);
  }
  static std::string tree_of(const std::string& raw) {
    const Mounted guest(raw, 1U << 20);
    return run({"sh", "-c",
                "cd " + guest.path() + " && find . -type f | sort | xargs -d '\\n' md5sum"})
        .out;
  }
  // A run takes one of the forms.
  static Words some_of(const Words& formats) {
    return takes_all() ? formats : Words{formats[seed_of_run() % formats.size()]};
  }
  std::uint64_t taken_by(const Words& words, const char* says) {
    const std::uint64_t before = host_free();
    const ProgramResult result = expect_status(0, words);
    EXPECT_EQ(result.said(says), GetParam().shares) << result.out;
    said_ = result.out;
    const std::uint64_t after = host_free();
    return before > after ? before - after : 0;
  }

  // Sound in every layer, and with the same files, for the kernel's driver too.
  void expect_same_guest(const std::string& image) const {
    expect_status(0, {"audit", image, "--proof", "full"});
    const std::string back = at("back.img");
    succeeds({"recast", image, back, "--form", "raw"});
    EXPECT_EQ(tree_of(back), tree_);
    files::remove(back);
  }

  std::string tree_;
  std::string said_;
};

TEST_P(MovedBySharing, ShrinkingAndItsUndo) {
  ASSERT_NE(tree_, "");
  const char* says = "moved by sharing blocks of the host";
  for (const std::string& format : some_of({"raw", "qcow2", "vdi", "vmdk", "vhd", "vhdx"})) {
    SCOPED_TRACE(format);
    const std::string image = at("guest." + format);
    succeeds({"recast", raw_, image, "--form", format, "--store", "sparse"});
    const std::uint32_t before = file_digest(image);
    Words words{"shrink", image, "--to", "floor+64MiB", "--yes", "--verbose"};
    const bool reads_all = seed_of_run() % 2 == 0;
    if (reads_all) words.insert(words.end(), {"--proof", "full"});
    const std::uint64_t taken = taken_by(words, says);
    EXPECT_EQ(said_.find("in the same blocks of the host") != std::string::npos,
              GetParam().shares && !reads_all)
        << said_;
    if (GetParam().shares) {
      EXPECT_LT(taken, 64U << 20);
    }
    expect_same_guest(image);
    expect_status(0, {"undo", image, "--yes"});
    EXPECT_EQ(file_digest(image), before);
    const ProgramResult copied =
        expect_status(0, {"shrink", image, "--to", "floor+64MiB", "--yes", "--share", "never"});
    EXPECT_FALSE(copied.said(says)) << copied.out;
    for (const std::string& path : {image, image + ".juneheath"}) files::remove(path);
  }
}

// A host with less room than what moves: it needs none where the blocks are shared.
TEST_P(MovedBySharing, ShrinkingOnAHostThatIsNearlyFull) {
  const std::string image = at("guest.img");
  succeeds({"recast", raw_, image, "--store", "sparse"});
  const std::uint32_t before = file_digest(image);
  constexpr std::uint64_t left = 80U << 20;
  const auto available = [&] { return files::space(host_->path()).available; };
  std::uint64_t some = 64U << 20;  // less where the host gives no more in one piece
  for (int i = 0; available() > left && some >= 1U << 20; ++i) {
    some = std::min(some, std::max<std::uint64_t>(available() - left, 1U << 20));
    const std::string filler = at("filler-" + std::to_string(i));
    if (run({"fallocate", "-l", std::to_string(some), filler}).status != 0) some /= 2;
  }
  ASSERT_LT(available(), left + (32U << 20));
  const Words words{"shrink", image, "--to", "floor+64MiB", "--yes"};
  const ProgramResult outcome = juneheath(words);
  EXPECT_EQ(outcome.status, GetParam().shares ? 0 : 3) << outcome.out << outcome.err;
  Words copying = words;
  copying.insert(copying.end(), {"--share", "never"});
  if (GetParam().shares) {
    EXPECT_TRUE(outcome.said("moved by sharing blocks of the host")) << outcome.out;
    expect_same_guest(image);
    expect_status(0, {"undo", image, "--yes"});
  }
  EXPECT_EQ(file_digest(image), before);
  expect_status(3, copying, {"the host has only"});
  EXPECT_EQ(file_digest(image), before);
}

TEST_P(MovedBySharing, Compaction) {
  for (const std::string& format : some_of({"qcow2", "vdi", "vmdk", "vhd", "vhdx"})) {
    SCOPED_TRACE(format);
    const std::string image = at("guest." + format);
    succeeds({"recast", raw_, image, "--form", format});
    const std::uint64_t length = files::file_size(image);
    const std::uint64_t taken =
        taken_by({"compact", image, "--yes"}, "moved by sharing blocks of the host");
    EXPECT_LT(files::file_size(image), length - (200U << 20));
    if (GetParam().shares) {
      EXPECT_LT(taken, 64U << 20);
    }
    expect_same_guest(image);
    files::remove(image);
  }
}

TEST_P(SharedBlocks, CompactionIntoANewImage) {
  const std::string image = at("compact.vmdk");
  const ProgramResult outcome = expect_status(0, {"compact", raw_, "--into", image, "--yes"});
  EXPECT_EQ(outcome.said("shared with the image"), GetParam().shares) << outcome.out;
  expect_status(0, {"audit", image, "--proof", "full"});
}

const auto hosts =
    testing::Values(HostKind{"xfs", make_xfs, true}, HostKind{"btrfs", make_btrfs, true},
                    HostKind{"ext", make_ext, false});
const auto name_of = by_name;
INSTANTIATE_TEST_SUITE_P(On, SharedBlocks, hosts, name_of);
INSTANTIATE_TEST_SUITE_P(On, MovedBySharing, hosts, name_of);

}  // namespace
}  // namespace jh::test
