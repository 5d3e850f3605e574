// The world moves on between a cut and recover, between a change and undo: the guest runs, the
// image is replaced, a ledger is somebody's trap. The built program on real files.
#include <sys/stat.h>

#include <future>

#include "core/store/host.h"
#include "support/containers.h"
#include "support/same_guest.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

constexpr std::uint64_t first_mib = 1048576;

class World : public testing::Test {
 protected:
  void SetUp() override {
    if (is_sanitized)
      GTEST_SKIP() << "preloading and the sanitizer's own library do not go together";
    if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
    unpack_sample("heather", base_);
    fill_and_delete(base_, first_mib, 100);
  }
  void fresh() {
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (entry.path() != base_) files::remove_all(entry.path());
    run({"cp", "--sparse=always", base_, image_});
  }
  static long calls_of(const Words& command, const std::string& counter) {
    const ProgramResult whole =
        juneheath(command, {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_COUNT", counter}});
    EXPECT_EQ(whole.status, 0) << whole.err;
    return std::stol(read_file(counter));
  }
  static bool stopped(const Words& command, long call) {
    return juneheath(command, {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                               {"JUNEHEATH_STOP_AT", std::to_string(call)}})
               .status == 99;
  }
  // The guest starts, and fills nearly all that it has free with new files.
  Facts guest_writes(const std::string& image, int megabytes) {
    const Mounted mounted(image, first_mib, 0, true);
    for (int i = 0; i < megabytes; i += 10)
      run({"dd", "if=/dev/urandom", fmt::format("of={}/new-{}", mounted.path(), i), "bs=1M",
           "count=10"});
    run({"sync", "-f", mounted.path()});
    return tree_facts(mounted.path());
  }
  static Facts tree_in(const std::string& image) {
    return tree_facts(Mounted(image, first_mib).path());
  }
  void expect_holds(const std::string& image, const Facts& tree) {
    EXPECT_EQ(check_ext(image, first_mib), "");
    EXPECT_EQ(tree_difference(tree, tree_in(image)), "");
  }

  const TempFolder folder_;
  const std::string base_ = folder_ / "base.raw";
  const std::string image_ = folder_ / "guest.img";
};

TEST_F(World, TheGuestRunsBetweenTheCutAndRecover) {
  const Words shrink{"shrink", image_, "--to", "floor", "--yes", "--quiet"};
  fresh();
  const long calls = calls_of(shrink, folder_ / "count");
  int dropped = 0;
  int refused = 0;
  const long stride = takes_all() ? 23 : std::max(calls / 5, 23L);
  for (long n = 2; n <= calls; n += n + stride < calls - 9 ? stride : 2) {
    SCOPED_TRACE(fmt::format("cut at call {} of {}", n, calls));
    fresh();
    ASSERT_TRUE(stopped(shrink, n));
    const bool open = files::exists(image_ + ".juneheath.open");
    if (!open && n > calls / 2) continue;  // the shrunk disk has no room to write
    const Facts tree = guest_writes(image_, 150);
    const std::uint32_t digest = file_digest(image_);
    const ProgramResult recovered = juneheath({"recover", image_});
    if (recovered.status == 0) {
      expect_holds(image_, tree);
      ++dropped;
    } else {
      ASSERT_EQ(recovered.status, 3) << recovered.err;
      EXPECT_EQ(file_digest(image_), digest);
      EXPECT_TRUE(recovered.said("--keep-as-is")) << recovered.err;
      ++refused;
    }
    EXPECT_NE(juneheath({"undo", image_}).status, 0);
    if (HasFailure()) return;
  }
  EXPECT_GT(dropped, 3);
}

// While the change is written nobody can start from the image; before and after it is whole.
TEST_F(World, NobodyStartsFromHalfOfAChange) {
  SKIP_UNLESS_ITS_TURN(2)
  constexpr std::uint64_t root = 52428800;
  const Words grow{"grow", image_, "--by", "64MiB", "--give", "/", "--quiet"};
  const std::string whole = unpack_sample("nestcam", folder_ / "nestcam.raw");
  const auto prepare = [&] {
    files::remove(image_ + ".juneheath");
    files::remove(image_ + ".juneheath.open");
    run({"cp", "--sparse=always", whole, image_});
  };
  prepare();
  const long calls = calls_of(grow, folder_ / "count");
  int closed = 0;
  int used = 0;
  for (long n = calls - 26; n <= calls; n += 3) {
    SCOPED_TRACE(fmt::format("cut at call {} of {}", n, calls));
    prepare();
    if (!stopped(grow, n)) continue;
    const bool is_closed = read_file(image_).starts_with("juneheath: this image is in the middle");
    if (is_closed) {
      expect_status(3, {"survey", image_}, {"juneheath recover"});
      expect_status(3, {"recover", image_, "--keep-as-is"});
      ++closed;
    } else {
      const Mounted mounted(image_, root, 0, true);
      std::ofstream(mounted.path() + "/late") << "a late bird";
      run({"sync", "-f", mounted.path()});
      ++used;
    }
    expect_status(0, {"recover", image_});
    expect_status(0, {"audit", image_});
    EXPECT_EQ(check_ext(image_, root), "");
    if (!is_closed) {
      EXPECT_EQ(read_file(Mounted(image_, root).path() + "/late"), "a late bird");
    }
  }
  EXPECT_GT(closed, 2);
  EXPECT_GT(used, 2);
}

// The ledger of a change without an undo is nothing but something to tidy away.
TEST_F(World, AChangeWithoutUndoDataIsNeverUndone) {
  for (const bool compacts : {false, true}) {
    const std::string image = compacts ? folder_ / "guest.qcow2" : image_;
    const Words command =
        compacts ? Words{"compact", image, "--yes", "--quiet"}
                 : Words{"shrink", image, "--to", "floor", "--yes", "--no-undo", "--quiet"};
    const auto prepare = [&] {
      fresh();
      if (compacts) {
        succeeds({"recast", image_, image, "--quiet"});
      }
    };
    prepare();
    FileHost host;
    const long calls = calls_of(command, folder_ / "count");
    const std::string finished = what_the_guest_finds(host, image);
    bool seen = false;
    for (long n = calls - 25; n <= calls; n += takes_all() ? 2 : 4) {
      SCOPED_TRACE(n);
      prepare();
      if (!stopped(command, n)) continue;
      seen |= files::exists(image + ".juneheath");
      const bool waits = files::exists(image + ".juneheath");
      EXPECT_FALSE(juneheath({"survey", image}).said("juneheath undo")) << n;
      const ProgramResult undo = expect_status(3, {"undo", image});
      expect_status(0, {"recover", image});
      EXPECT_EQ(juneheath({"undo", image}).status, 3) << n;
      EXPECT_FALSE(files::exists(image + ".juneheath")) << n;
      if (waits) {
        EXPECT_EQ(what_the_guest_finds(host, image), finished) << n;
      }
      EXPECT_EQ(juneheath({"audit", image}).status, 0) << n;
    }
    EXPECT_TRUE(seen);
  }
}

TEST_F(World, AnotherImageWasCopiedOverTheFile) {
  const Words grow{"grow", image_, "--to", "256MiB", "--quiet"};
  fresh();
  const long calls = calls_of(grow, folder_ / "count");
  const std::string other = folder_ / "other.img";
  for (long n = 1; n <= calls; n += takes_all() ? 2 : 5) {
    SCOPED_TRACE(n);
    fresh();
    ASSERT_TRUE(stopped(grow, n));
    run({"cp", base_, other});
    files::resize_file(other, 400ULL << 20);
    succeeds({"grow", other, "--quiet"});
    ASSERT_EQ(run({"cp", other, image_}).status, 0);  // the same inode, another content
    const std::uint32_t digest = file_digest(image_);
    const ProgramResult recovered = juneheath({"recover", image_});
    EXPECT_TRUE(recovered.status == 0 || recovered.status == 3) << recovered.err;
    EXPECT_EQ(file_digest(image_), digest);
    if (recovered.status == 0) continue;
    expect_status(0, {"recover", image_, "--keep-as-is"});
    EXPECT_EQ(file_digest(image_), digest);
    expect_status(0, {"recover", image_});
  }
}

TEST_F(World, AnImageWithTwoNamesIsLeftAlone) {
  fresh();
  files::create_hard_link(image_, folder_ / "second.img");
  expect_status(3, {"grow", image_, "--to", "256MiB"}, {"2 names"});
  expect_status(0, {"grow", image_, "--to", "256MiB", "--into", folder_ / "new.img"});
}

TEST_F(World, TheUndoOfAChangeEndsWithTheNextOne) {
  fresh();
  succeeds({"shrink", image_, "--by", "60MiB", "--yes"});
  succeeds({"compact", image_, "--yes"}, {"can no longer be taken back"});
  expect_status(3, {"undo", image_});
  // A dropped change may have written to what the one before it had freed.
  fresh();
  succeeds({"shrink", image_, "--by", "60MiB", "--yes"});
  ASSERT_TRUE(stopped({"grow", image_, "--to", "256MiB", "--quiet"}, 12));
  if (files::exists(image_ + ".juneheath.open")) {
    expect_said({"recover", image_}, {"can no longer be taken back"});
    expect_status(3, {"undo", image_});
  }
}

// The guest has begun to use what was handed out, without touching what the change wrote.
TEST_F(World, RoomThatIsUsedIsNotTakenBack) {
  const std::string image = folder_ / "office.img";
  const auto prepare = [&] {
    fresh();
    unpack_sample("mbr-ntfs", image);
    // Content that nobody knows.
    poke(image, 51380224 + 3, "MOORFILE");
    files::resize_file(image, 400ULL << 20);
    succeeds({"grow", image, "--give", "p2", "--quiet"});
  };
  prepare();
  succeeds({"undo", image});
  const auto partitions = listed_partitions(image, "MBR");
  ASSERT_GE(partitions.size(), 2U);
  const std::uint64_t start = std::next(partitions.begin())->first;
  for (const std::uint64_t at : {start + 100, std::uint64_t{390} << 20}) {
    SCOPED_TRACE(at);
    prepare();
    poke(image, at, "written by the guest");
    const std::uint32_t digest = file_digest(image);
    expect_status(3, {"undo", image}, {"has been used since"});
    EXPECT_EQ(file_digest(image), digest);
  }
  // What was not handed out does not matter, and is left as it is found.
  prepare();
  poke(image, 600000, "a note elsewhere");
  expect_status(0, {"undo", image}, {"all others are as they were found"});
  EXPECT_EQ(read_file(image).substr(600000, 16), "a note elsewhere");
}

TEST_F(World, AGrownDiskWhoseTableWasChangedSinceIsNotTakenBack) {
  fresh();
  succeeds({"grow", image_, "--to", "256MiB", "--give", "nothing", "--quiet"});
  poke(image_, 446 + 16 + 4, "\x83");  // the guest makes a partition behind the first
  expect_status(3, {"undo", image_});
}

TEST_F(World, BothImagesOfAChangeAreNamedAndFree) {
  const std::string a = folder_ / "a.img";
  const std::string b = folder_ / "b.img";
  const Words grow{"grow", a, b, "--by", "96MiB", "--disk", "1", "--give", "/", "--quiet"};
  const auto prepare = [&] {
    fresh();
    unpack_sample("two-disk-a", a);
    unpack_sample("two-disk-b", b);
  };
  prepare();
  const long calls = calls_of(grow, folder_ / "count");
  for (long n = 3; n <= calls; n += n < 8 || n > calls - 12 ? 1 : 7) {
    SCOPED_TRACE(n);
    prepare();
    ASSERT_TRUE(stopped(grow, n));
    const std::string sums = fmt::format("{} {}", file_digest(a), file_digest(b));
    const auto now = [&] { return fmt::format("{} {}", file_digest(a), file_digest(b)); };
    const ProgramResult one = juneheath({"recover", b});
    if (one.status != 0) {
      EXPECT_EQ(one.status, 3);
      EXPECT_TRUE(one.said(fmt::format("juneheath recover {} {}", b, a))) << one.err;
    }
    EXPECT_EQ(now(), sums);
    // Somebody has the second one attached.
    const std::string device = run({"losetup", "--find", "--show", b}).out;
    const bool waits = one.status != 0;
    const ProgramResult busy = juneheath({"recover", a, b});
    run({"losetup", "--detach", device.substr(0, device.size() - 1)});
    if (waits) {
      EXPECT_EQ(busy.status, 3) << busy.out;
      EXPECT_EQ(now(), sums);
    }
    expect_status(0, {"recover", a, b});
    expect_status(0, {"audit", a, b});
  }
}

TEST_F(World, NewImagesHaveTheirNamesOnlyWhenTheyAreWhole) {
  const std::string made = folder_ / "made.qcow2";
  for (const Words& command : {Words{"recast", image_, made, "--quiet"},
                               Words{"compact", image_, "--into", made, "--quiet"},
                               Words{"grow", image_, "--by", "64MiB", "--into", made, "--quiet"}}) {
    fresh();
    const long calls = calls_of(command, folder_ / "count");
    int partial = 0;
    for (long n = 1; n <= calls; n += std::max(1L, calls / 12)) {
      SCOPED_TRACE(fmt::format("{} cut at call {}", command[0], n));
      fresh();
      ASSERT_TRUE(stopped(command, n));
      if (files::exists(made)) {
        expect_status(0, {"audit", made});
        continue;
      }
      ++partial;
      if (n % 2 == 0) {
        expect_status(0, {"recover", made});
        EXPECT_FALSE(files::exists(made + ".juneheath.new"));
      }
      if (files::exists(made)) continue;  // it was whole but for its name
      const ProgramResult again = juneheath(command);
      // The same, found by the command itself.
      EXPECT_EQ(again.status, again.said("complete but for its name") ? 3 : 0) << again.err;
      expect_status(0, {"audit", made});
      EXPECT_FALSE(files::exists(made + ".juneheath.new"));
    }
    EXPECT_GT(partial, 3);
  }
}

TEST_F(World, NamesOfLedgersAreNoNamesForImages) {
  fresh();
  for (const char* ending : {".juneheath", ".juneheath.open", ".juneheath.new"}) {
    const std::string name = image_ + ending;
    expect_status(3, {"grow", image_, "--to", "256MiB", "--backup", name});
    expect_status(3, {"grow", image_, "--to", "256MiB", "--into", name});
    expect_status(3, {"compact", image_, "--into", name});
    expect_status(3, {"recast", image_, name, "--form", "qcow2"});
    expect_status(3, {"grow", image_, "--add-disk", name + "=64MiB"});
    EXPECT_FALSE(files::exists(name));
  }
}

TEST_F(World, WhatTheGuestNamesReachesTheTerminalHarmless) {
  fresh();
  {
    const Mounted mounted(image_, first_mib, 0, true);
    write_file(mounted.path() + "/etc/hostname", "moor\x1b]0;stolen\x07host\n");
    std::ofstream fstab(mounted.path() + "/etc/fstab", std::ios::app);
    fstab << "LABEL=ringing /mo\\012or\x1b[2J ext4 defaults 0 0\n";
  }
  for (const Words& command :
       {Words{"survey", image_}, Words{"grow", image_, "--to", "256MiB", "--dry-run"},
        Words{"grow", image_, "--to", "100MiB"},
        Words{"shrink", image_, "--to", "floor", "--dry-run"}}) {
    const ProgramResult said = juneheath(command);
    for (const std::string& text : {said.out, said.err})
      for (const char c : text)
        EXPECT_TRUE(c == '\n' || static_cast<unsigned char>(c) >= 0x20) << command[0] << text;
  }
  expect_said({"survey", image_}, {"moor\\x1b]0;stolen\\x07host"});
}

TEST_F(World, LimitsAndClosedOutputsAreFailuresWithAMessage) {
  fresh();
  const std::string program = JUNEHEATH_PROGRAM;
  const ProgramResult limited = run({"bash", "-c",
                                     "ulimit -f 1000; exec " + program + " recast " + image_ + " " +
                                         (folder_ / "big.vdi") + " --store full"});
  EXPECT_EQ(limited.status, 5) << limited.err;
  EXPECT_FALSE(files::exists(folder_ / "big.vdi"));
  const ProgramResult full = run({"bash", "-c", program + " survey " + image_ + " > /dev/full"});
  EXPECT_EQ(full.status, 5) << full.err;
  expect_status(2, {"grow", image_, "--by", "18446744073709551615"});
  files::create_directories(folder_ / "config/juneheath/juneheath.conf");
  EXPECT_EQ(juneheath({"survey", image_}, {{"XDG_CONFIG_HOME", folder_ / "config"}}).status, 2);
  const std::string name = folder_ / (std::string(246, 'n') + ".img");
  run({"cp", "--sparse=always", base_, name});
  const ProgramResult long_name = juneheath({"grow", name, "--to", "256MiB"});
  EXPECT_NE(long_name.status, 0);
  EXPECT_TRUE(long_name.said("too long")) << long_name.err;
  expect_said({"survey", image_, "--json"}, {"\"store\": \"sparse\""});
}

// An image of somebody else's names files of the host: a root's copy would hand them out.
TEST_F(World, AnImageLeadsToNoFileElsewhere) {
  fresh();
  const std::string secret = folder_ / "secret";
  write_file(secret, std::string(1U << 20, 's'));
  const std::string inner = folder_ / "inner";
  files::create_directory(inner);
  const auto descriptor = [&](const std::string& extent) {
    write_file(inner + "/trap.vmdk",
               "# Disk DescriptorFile\nversion=1\nCID=12345678\nparentCID=ffffffff\n"
               "createType=\"monolithicFlat\"\n\n# Extent description\nRW 2048 FLAT \"" +
                   extent + "\" 0\n");
  };
  const std::string out = folder_ / "out.img";
  files::create_symlink(secret, inner + "/link");
  files::create_symlink("/dev/zero", inner + "/device");
  for (const std::string& extent : {std::string("../secret"), secret, std::string("link")}) {
    SCOPED_TRACE(extent);
    descriptor(extent);
    expect_status(3, {"recast", inner + "/trap.vmdk", out}, {"secret"});
    EXPECT_FALSE(files::exists(out));
    EXPECT_EQ(juneheath({"recast", inner + "/trap.vmdk", out, "--allow-outside"}).status, 0)
        << extent;
    files::remove(out);
  }
  descriptor("device");
  expect_status(3, {"recast", inner + "/trap.vmdk", out, "--allow-outside"});
  EXPECT_FALSE(files::exists(out));
}

// A compressed entry that leads nowhere: once the search for gaps never ended.
TEST_F(World, ADamagedPackedEntryIsFoundByEveryCommand) {
  fresh();
  const std::string image = unpack_container("ext-l2.qcow2", folder_);
  poke(image, 633328, "\xff\xff\xff\x7f");
  for (const Words& command :
       {Words{"compact", image, "--dry-run"}, Words{"grow", image, "--by", "1GiB", "--dry-run"},
        Words{"grow", image, "--by", "1GiB", "--yes"}, Words{"audit", image}}) {
    Words limited = Words{"timeout", "60", JUNEHEATH_PROGRAM} + command;
    EXPECT_EQ(run(limited).status, 4) << command[0] << command.back();
  }
}

// Of two that want the same image at the same time one does its work, or both do, one after the
// other; the loser of the race does not take what it sees in between for damage.
TEST_F(World, TwoAtATime) {
  for (int turn = 0; turn < 12; ++turn) {
    fresh();
    const auto grow = [&](const char* by) {
      return juneheath({"grow", image_, "--by", by, "--give", "/", "--quiet"});
    };
    auto other = std::async(std::launch::async, [&] { return grow("32MiB"); });
    const ProgramResult one =
        turn % 2 == 0 ? grow("64MiB")
                      : juneheath({"shrink", image_, "--to", "floor", "--yes", "--quiet"});
    const ProgramResult two = other.get();
    for (const ProgramResult& each : {one, two}) {
      EXPECT_TRUE(each.status == 0 || each.status == 3) << each.err;
      EXPECT_FALSE(each.said("damage")) << each.err;
    }
    EXPECT_TRUE(one.status == 0 || two.status == 0) << one.err << two.err;
    expect_status(0, {"audit", image_});
    EXPECT_EQ(check_ext(image_, first_mib), "");
  }
}

// A survey or an audit beside a change, in every form: what does not fit together for a moment is
// no damage, and no file that ends too early.
TEST_F(World, WhoeverLooksMeanwhileSeesNoDamage) {
  const std::string sample = unpack_sample("mbr-boot-lvm", folder_ / "sample.img");
  Words forms{"raw", "qcow2", "vdi", "vmdk", "vhd", "vhdx"};
  std::mt19937 random(seed_of_run());
  std::shuffle(forms.begin(), forms.end(), random);
  if (!takes_all()) forms.resize(2);
  for (const std::string& form : forms) {
    const std::string image = folder_ / ("busy." + form);
    ASSERT_EQ(juneheath({"recast", sample, image, "--quiet"}).status, 0) << form;
    auto changes = std::async(std::launch::async, [&] {
      std::vector<int> statuses;
      for (int turn = 0; turn < 4; ++turn) {
        statuses.push_back(
            juneheath({"grow", image, "--by", "48MiB", "--give", "/", "--quiet"}).status);
        statuses.push_back(juneheath({"undo", image, "--yes", "--quiet"}).status);
      }
      return statuses;
    });
    int looks = 0;
    while (changes.wait_for(std::chrono::seconds(0)) != std::future_status::ready) {
      const ProgramResult seen = juneheath({++looks % 3 == 0 ? "survey" : "audit", image});
      EXPECT_TRUE(seen.status == 0 || seen.status == 3) << form << seen.out << seen.err;
    }
    // A change may find its image being looked at, never damaged.
    for (const int status : changes.get()) EXPECT_TRUE(status == 0 || status == 3) << form;
    juneheath({"undo", image, "--yes", "--quiet"});
    EXPECT_EQ(juneheath({"audit", image}).status, 0) << form;
    EXPECT_GT(looks, 2) << form;
  }
}

// An undo removes the disk that its change had made; cut anywhere, recover handles it by the names
// of both, and leaves nothing behind.
TEST_F(World, AnUndoThatRemovesADiskIsSettledWhereverItWasCut) {
  const std::string added = folder_ / "added.vhd";
  files::remove(base_);
  unpack_sample("whole-disk-pv", base_);
  const std::uint32_t digest = file_digest(base_);
  int cuts = 0;
  bool was_gone = false;
  for (int n = 1;; ++n) {
    SCOPED_TRACE(n);
    fresh();
    succeeds({"grow", image_, "--add-disk", added + "=40MiB", "--give", "bare/data", "--quiet"});
    const ProgramResult undo =
        juneheath({"undo", image_, added, "--quiet"},
                  {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_AT", std::to_string(n)}});
    if (undo.status != 99) break;
    ++cuts;
    was_gone = was_gone || !files::exists(added);
    expect_status(0, {"recover", image_, added});
    if (files::exists(added)) {
      EXPECT_EQ(juneheath({"undo", image_, added, "--quiet"}).status, 0) << n;
    }
    EXPECT_EQ(file_digest(image_), digest) << n;
    EXPECT_EQ(std::distance(files::directory_iterator(folder_.path()), {}), 2) << n;
    if (HasFailure()) return;
  }
  EXPECT_GT(cuts, 20);
  EXPECT_TRUE(was_gone);
  expect_status(3, {"recover", folder_ / "mistyped.img"});
}

}  // namespace
}  // namespace jh::test
