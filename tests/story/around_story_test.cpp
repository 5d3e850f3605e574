// Who else holds a truth about the bytes of a change: children and pieces of the image, a guest
// that sleeps, a log that is not replayed, a layer that is longer than its place, an array.
#include <unistd.h>

#include "core/array/format.h"
#include "core/container/vdi/format.h"
#include "core/store/file_store.h"
#include "support/children.h"
#include "support/guest_story.h"
#include "support/test.h"

namespace jh::test {
namespace {

class AroundStory : public GuestStory {
 protected:
  std::string sample(const std::string& name) {
    const std::string path = unpack_sample(name, folder_ / (name + ".img"));
    return path;
  }

  // Every command that writes: none may write a byte, and each says why.
  void expect_left_alone(const std::string& image, const std::string& words,
                         std::vector<Words> commands = {}) {
    if (commands.empty())
      commands = {{"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"},
                  {"shrink", image, "--to", "floor", "--yes"},
                  {"compact", image, "--yes"}};
    const std::uint32_t before = file_digest(image);
    for (const auto& command : commands) {
      const ProgramResult outcome = juneheath(command);
      EXPECT_TRUE(outcome.status == 3 || outcome.status == 4 || outcome.status == 6)
          << command[0] << ": " << outcome.status << "\n"
          << outcome.out << outcome.err;
      EXPECT_TRUE(outcome.said(words)) << command[0] << "\n" << outcome.out << outcome.err;
    }
    EXPECT_EQ(file_digest(image), before);
  }

  // An empty child that names its parent by its identity, as this form does.
  void make_child(const std::string& base, const std::string& child) {
    succeeds({"recast", base, child, "--quiet"});
    auto parent = load(base);
    auto own = load(child);
    make_child_of(own, parent, ImageFormat::vdi, "");
    files::remove(child);
    save(own, child);
  }

  std::uint64_t offset_of(const std::string& image, const std::string& place) {
    const auto survey = survey_of({image});
    for (const auto& each : survey["disks"][0]["places"])
      if (each["name"] == place) return each["offset"];
    ADD_FAILURE() << place << " is not in " << image;
    return 0;
  }
  std::uint64_t size_of(const std::string& image, const std::string& place) {
    const auto survey = survey_of({image});
    for (const auto& each : survey["disks"][0]["places"])
      if (each["name"] == place) return each["size"];
    return 0;
  }
};

TEST_F(AroundStory, AParentIsLeftAloneWhereverItsChildLies) {
  const std::string disk = sample("heather");
  files::create_directories(folder_ / "store/disks/snapshots");
  const std::string base = folder_ / "store/disks/base.vdi";
  succeeds({"recast", disk, base, "--quiet"});
  for (const char* child : {"store/disks/child.vdi", "store/disks/snapshots/child.vdi",
                            "store/child.vdi", "store/snapshots/child.vdi"}) {
    SCOPED_TRACE(child);
    files::create_directories(files::path(folder_ / child).parent_path());
    make_child(base, folder_ / child);
    expect_left_alone(base, "builds on this image");
    // As it is named from its own folder, and through a detour.
    const files::path here = files::current_path();
    files::current_path(files::path(base).parent_path());
    expect_left_alone("base.vdi", "builds on this image");
    expect_left_alone("../disks/base.vdi", "builds on this image");
    files::current_path(here);
    write_file(folder_ / "order.toml",
               "order = 1\nreport = \"results\"\n[[guest]]\nname = \"moor\"\ndisks = "
               "[\"store/disks/base.vdi\"]\n"
               "change = \"grow\"\nby = \"64MiB\"\ngive = [\"nothing\"]\n");
    const std::uint32_t before = file_digest(base);
    EXPECT_NE(juneheath({"batch", folder_ / "order.toml", "--yes"}).status, 0);
    EXPECT_EQ(file_digest(base), before);
    files::remove(folder_ / child);
    files::remove_all(folder_ / "results");
  }
  expect_status(0, {"grow", base, "--by", "64MiB", "--yes"});
}

// A copy of the parent elsewhere is not what a child builds on that has its parent beside it.
TEST_F(AroundStory, ACopyOfAParentMayBeChanged) {
  const std::string disk = sample("heather");
  files::create_directories(folder_ / "a/backup");
  const std::string base = folder_ / "a/base.vdi";
  succeeds({"recast", disk, base, "--quiet"});
  make_child(base, folder_ / "a/child.vdi");
  files::copy(base, folder_ / "a/backup/base.vdi");
  expect_status(0, {"grow", folder_ / "a/backup/base.vdi", "--by", "64MiB", "--yes"});
}

TEST_F(AroundStory, APieceOfADiskIsNoDisk) {
  const std::string disk = sample("heather");
  const std::string whole = folder_ / "heather.vmdk";
  succeeds({"recast", disk, whole, "--store", "full", "--quiet"});
  const std::string piece = folder_ / "heather-flat.vmdk";
  ASSERT_TRUE(files::exists(piece));
  expect_left_alone(piece, "name the disk instead: " + whole);
  // The disk itself changes with its piece.
  expect_status(0, {"grow", whole, "--by", "64MiB", "--yes"});
}

TEST_F(AroundStory, ARawParentIsLeftAlone) {
  const std::string disk = sample("heather");
  succeeds({"recast", disk, folder_ / "over.qcow2", "--quiet"});
  // The header's backing file: its name behind the extensions, and where that is.
  const std::string name = "heather.img";
  poke(folder_ / "over.qcow2", 0x400, name);
  poke(folder_ / "over.qcow2", 8, std::string("\0\0\0\0\0\0\x04\0\0\0\0", 11) + char(name.size()));
  expect_left_alone(disk, "builds on this image");
}

// ---- A guest that sleeps.

class SleepingStory : public AroundStory {
 protected:
  void expect_asleep(const std::string& image, const std::string& words, bool changed_before) {
    std::vector<Words> commands{
        {"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"},
        {"shrink", image, "--to", "floor", "--yes"},
        {"compact", image, "--yes"},
        {"compact", image, "--into", folder_ / "new.img"},
        {"grow", image, "--by", "64MiB", "--give", "nothing", "--into", folder_ / "new.img"}};
    if (changed_before) commands.push_back({"undo", image, "--yes"});
    expect_left_alone(image, words, commands);
    EXPECT_FALSE(files::exists(folder_ / "new.img"));
    const ProgramResult survey = expect_said({"survey", image}, {words});
    EXPECT_FALSE(survey.said("juneheath grow")) << survey.out;
    EXPECT_FALSE(survey.said("juneheath undo")) << survey.out;
  }
  void change(const std::string& image) {
    succeeds({"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"});
  }
};

TEST_F(SleepingStory, InASwapPartition) {
  for (const char* mark : {"S1SUSPEND", "LINHIB0001"}) {
    const std::string image = sample("mbr-extended");
    const std::uint64_t swap = offset_of(image, "p5");
    change(image);
    poke(image, swap + 4086, std::string(mark).substr(0, 10));
    expect_asleep(image, "the guest is suspended", true);
    files::remove(image);
    files::remove(image + ".juneheath");
  }
}

TEST_F(SleepingStory, InASwapFileThatFstabNames) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const std::string image = sample("mbr-extended");
  {
    const Mounted root(image, offset_of(image, "p1"), 0, /*writable=*/true);
    std::ofstream(root.path() + "/etc/fstab", std::ios::app) << "/var/lib/rest none swap sw 0 0\n";
    std::string swap(65536, '\0');
    swap.replace(4086, 10, "S1SUSPEND\0", 10);
    files::create_directories(root.path() + "/var/lib");
    std::ofstream(root.path() + "/var/lib/rest") << swap;
  }
  expect_asleep(image, "swap file /var/lib/rest", false);
}

TEST_F(SleepingStory, WhereTheKernelIsToldToLook) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const std::string image = sample("mbr-extended");
  {
    const Mounted root(image, offset_of(image, "p1"), 0, /*writable=*/true);
    // However its blocks lie, some page of it has the mark at its end.
    std::string swap(65536, '\0');
    for (std::size_t at = 1014; at + 10 < swap.size(); at += 1024)
      swap.replace(at, 10, "S1SUSPEND\0", 10);
    std::ofstream(root.path() + "/rest-of-the-moor") << swap;
  }
  // Where it lies is what the guest's own tool would have written down.
  const std::string bytes = read_file(image);
  const std::uint64_t root = offset_of(image, "p1");
  std::size_t at = bytes.find("S1SUSPEND");
  while (at != std::string::npos && (at - 4086 - root) % 4096 != 0)
    at = bytes.find("S1SUSPEND", at + 1);
  ASSERT_NE(at, std::string::npos);
  {
    const Mounted mounted(image, root, 0, /*writable=*/true);
    files::create_directories(mounted.path() + "/etc/default");
    std::ofstream(mounted.path() + "/etc/default/grub")
        << "GRUB_CMDLINE_LINUX=\"quiet resume=/dev/sda1 resume_offset=" << (at - 4086 - root) / 4096
        << "\"\n";
  }
  expect_asleep(image, "where the kernel is told to look for it", false);
}

// hiberfil.sys on one partition, and another one would be changed.
TEST_F(SleepingStory, OnAnotherPartition) {
  const std::string image = sample("mbr-ntfs");
  const std::string asleep = sample("ntfs-asleep");
  const std::uint64_t target = offset_of(image, "p2");
  ASSERT_LE(files::file_size(asleep), size_of(image, "p2"));
  auto disk = load(image);
  auto volume = load(asleep);
  disk.write(target, read_buffer(volume, 0, volume.size()));
  files::remove(image);
  save(disk, image);
  expect_left_alone(image, "the guest is suspended",
                    {{"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"},
                     {"shrink", image, "--take", "p1=8MiB", "--yes"},
                     {"compact", image, "--yes"}});
}

TEST_F(SleepingStory, AsItsHypervisorHasPutItToSleep) {
  const std::string image = sample("heather");
  change(image);
  for (const char* name : {"heather.vmss", "heather-5f1c.vmss", "heather.save", "heather.vsv",
                           "Snapshots/2026-11-29T06-10-00-123456000Z.sav",
                           "{3a1f2b4c-0d5e-4f60-8a7b-9c0d1e2f3a4b}.sav"}) {
    SCOPED_TRACE(name);
    files::create_directories(files::path(folder_ / name).parent_path());
    write_file(folder_ / name, "a machine's memory");
    expect_left_alone(image, "the guest is suspended",
                      {{"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"},
                       {"grow", image, "--by", "64MiB", "--give", "nothing", "--dry-run"},
                       {"shrink", image, "--to", "floor", "--yes"},
                       {"compact", image, "--yes"},
                       {"recover", image},
                       {"undo", image, "--yes"}});
    files::remove(folder_ / name);
  }
  // Another machine's is none of ours.
  write_file(folder_ / "bracken.vmss", "another machine's memory");
  expect_status(0, {"undo", image, "--yes"});
}

// ---- A guest that ran, and lost power.

// As the host finds the image when the guest's machine is gone in the middle of its work.
void lose_power(const std::string& image, std::uint64_t offset, const std::string& folder) {
  const std::string cut = folder + "/cut.img";
  {
    const Mounted running(image, offset, 0, /*writable=*/true);
    for (int i = 0; i < 60; ++i)
      std::ofstream(running.path() + "/ring-" + std::to_string(i)) << std::string(5000, 'r');
    ::sync();
    for (int i = 0; i < 60; i += 3) files::remove(running.path() + "/ring-" + std::to_string(i));
    ::sync();
    run({"cp", "--sparse=always", image, cut});
  }
  auto now = load(cut);
  FileStore file(image, Access::read_write);
  for (std::uint64_t at = 0; at < now.size(); at += 1U << 20) {
    const std::size_t length = std::min<std::uint64_t>(1U << 20, now.size() - at);
    file.write(at, read_buffer(now, at, length));
  }
  files::remove(cut);
}

TEST_F(AroundStory, UndoIsRefusedWhereALogCountsOnTheChange) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const std::string image = make_xfs(folder_ / "moss.img", 320U << 20, {});
  succeeds({"grow", image, "--by", "512MiB", "--yes"});
  lose_power(image, 0, folder_.path().string());
  expect_status(3, {"undo", image, "--yes"});
  // The kernel replays it, and nothing is lost.
  const Mounted after(image, 0, 0, /*writable=*/true);
  EXPECT_TRUE(files::exists(after.path() + "/ring-1"));
}

// What the change had nothing to do with may be in whatever state.
TEST_F(AroundStory, UndoIsDoneWhereTheLogIsNoMatterOfIt) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const std::string image = sample("mbr-extended");
  succeeds({"grow", image, "--by", "64MiB", "--give", "p6", "--yes"});
  lose_power(image, offset_of(image, "p1"), folder_.path().string());
  const ProgramResult survey = juneheath({"survey", image});
  ASSERT_TRUE(survey.said("needs journal replay")) << survey.out;
  expect_status(0, {"undo", image, "--yes"});
  const Mounted after(image, offset_of(image, "p1"), 0, /*writable=*/true);
  EXPECT_TRUE(files::exists(after.path() + "/ring-1"));
}

// ---- What is longer than its place.

void cut_last_partition(const std::string& image, std::uint32_t sectors) {
  std::string entries = read_file(image).substr(446, 64);
  for (int i = 3; i >= 0; --i) {
    const auto at = static_cast<std::size_t>(i) * 16;
    if (entries[at + 4] == 0) continue;
    std::uint32_t count = 0;
    std::memcpy(&count, &entries[at + 12], 4);
    count -= sectors;
    std::memcpy(&entries[at + 12], &count, 4);
    break;
  }
  poke(image, 446, entries);
}

class LongerThanItsPlace : public AroundStory,
                           public testing::WithParamInterface<std::pair<const char*, const char*>> {
};

TEST_P(LongerThanItsPlace, IsLeftAloneAndGetsItsEndBack) {
  SKIP_UNLESS_ITS_TURN(2)
  const auto& [name, place] = GetParam();
  std::string image = folder_ / "heath.img";
  if (std::string(name).starts_with("make-")) {
    // A partition of its own, from 1 MiB on, with what its system's maker makes.
    const std::string inner = folder_ / "inner.img";
    std::string(name) == "make-btrfs" ? make_btrfs(inner, 256U << 20, {})
                                      : make_xfs(inner, 320U << 20, {});
    auto content = load(inner);
    MemoryStore disk(content.size() + (2U << 20), image);
    disk.write(1U << 20, read_buffer(content, 0, content.size()));
    Buffer entry(16);
    entry[4] = 0x83;
    put_at(entry, 8, Le32(2048));
    put_at(entry, 12, Le32(static_cast<std::uint32_t>(content.size() / 512)));
    disk.write(446, entry);
    disk.write(510, Buffer{0x55, 0xAA});
    save(disk, image);
    files::remove(inner);
  } else {
    unpack_sample(name, image);
  }
  const std::string whole = read_file(image).substr(0, 512);
  const auto before = trees({image});
  cut_last_partition(image, 81920);  // 40 MiB
  expect_said({"survey", image},
              {"longer than its place", "juneheath grow " + image + " --give " + place});
  expect_left_alone(image, "--give " + std::string(place),
                    {{"shrink", image, "--to", "floor", "--yes"},
                     {"shrink", image, "--to", "floor", "--allow-move", "--yes"},
                     {"shrink", image, "--by", "8MiB", "--yes"},
                     {"compact", image, "--yes"},
                     {"compact", image, "--into", folder_ / "new.img"}});
  expect_status(0, {"grow", image, "--give", place, "--yes"});
  // Where each begins, and how long it is; what older systems read instead may be written anew.
  const std::string now = read_file(image).substr(0, 512);
  for (std::size_t entry = 446; entry < 510; entry += 16)
    EXPECT_EQ(now.substr(entry + 8, 8), whole.substr(entry + 8, 8));
  expect_audit_clean({image});
  expect_same({image}, before);
}

INSTANTIATE_TEST_SUITE_P(Kinds, LongerThanItsPlace,
                         testing::Values(std::pair("heather", "p1"),
                                         std::pair("mbr-boot-lvm", "p2"),
                                         std::pair("mbr-ntfs", "p2"), std::pair("make-btrfs", "p1"),
                                         std::pair("make-xfs", "p1")));

// Where the room behind it is another's by now, it cannot be had back.
TEST_F(AroundStory, AnEndThatIsTakenIsNotPutBack) {
  const std::string image = sample("mbr-extended");
  std::string entries = read_file(image).substr(446, 64);
  std::uint32_t count = 0;
  std::memcpy(&count, &entries[12], 4);
  count -= 81920;
  std::memcpy(&entries[12], &count, 4);
  // The extended partition, which begins behind it, now seems to have room in front.
  poke(image, 446, entries);
  expect_left_alone(image, "says that it is",
                    {{"shrink", image, "--to", "floor", "--yes"}, {"compact", image, "--yes"}});
}

// ---- Members of arrays.

Buffer md1(std::uint64_t at, std::int32_t level) {
  array::Md1Superblock super{};
  super.magic = array::md_magic;
  super.major_version = 1;
  super.set_uuid[0] = 7;
  const std::string name = "moor:rings";
  std::copy(name.begin(), name.end(), super.set_name.begin());
  super.level = static_cast<std::uint32_t>(level);
  super.super_offset = at / 512;
  const ConstByteSpan bytes = bytes_of(super);
  return {bytes.begin(), bytes.end()};
}

void put(const std::string& image, std::uint64_t at, ConstByteSpan bytes) {
  poke(image, at, std::string(bytes.begin(), bytes.end()));
}

TEST_F(AroundStory, MembersOfArraysAreNamedAndLeftAlone) {
  const std::string original = sample("heather");
  const std::uint64_t start = offset_of(original, "p1");
  const std::uint64_t size = size_of(original, "p1");
  struct Case {
    const char* what;
    std::uint64_t at;  // of the partition
    Buffer bytes;
  };
  array::Md0Superblock<Le32> old{};
  old.magic = array::md_magic;
  old.minor_version = 90;
  old.level = 1;
  const std::uint64_t old_at = round_down(size, 65536) - 65536;
  old.size = static_cast<std::uint32_t>(old_at / 1024);
  const std::uint64_t end_at = round_down(size / 512 - 16, 8) * 512;
  const ConstByteSpan old_bytes = bytes_of(old);
  const std::vector<Case> cases{
      {"member of a mirror moor:rings", end_at, md1(end_at, 1)},
      {"member of a stripe moor:rings", end_at, md1(end_at, 0)},
      {"member of a mirror moor:rings", 0, md1(0, 1)},
      {"member of an array with parity moor:rings", 4096, md1(4096, 5)},
      {"member of a mirror", old_at, {old_bytes.begin(), old_bytes.end()}},
      {"member of a controller's array", size - 512, {0xde, 0x11, 0xde, 0x11}},
      {"member of a replicated disk", size - 4096 + 60, {0x83, 0x74, 0x02, 0x6d}}};
  for (const Case& each : cases) {
    SCOPED_TRACE(each.what);
    const std::string image = folder_ / "member.img";
    files::copy(original, image, files::copy_options::overwrite_existing);
    put(image, start + each.at, each.bytes);
    expect_said({"survey", image}, {each.what});
    expect_left_alone(image, "",
                      {{"grow", image, "--by", "64MiB", "--give", "p1", "--yes"},
                       {"shrink", image, "--to", "floor", "--yes"},
                       {"shrink", image, "--take", "p1", "--yes"}});
    // What is found by its distance from the disk's end is the whole disk's.
    files::copy(original, image, files::copy_options::overwrite_existing);
    const std::uint64_t disk = files::file_size(image);
    if (each.at < 8192 || each.at == old_at) continue;
    const std::uint64_t at =
        each.at == end_at ? round_down(disk / 512 - 16, 8) * 512 : disk - (size - each.at);
    put(image, at, each.at == end_at ? md1(at, each.bytes[72] == 1 ? 1 : 0) : each.bytes);
    expect_left_alone(image, "",
                      {{"grow", image, "--by", "64MiB", "--give", "nothing", "--yes"},
                       {"grow", image, "--by", "64MiB", "--yes"},
                       {"shrink", image, "--to", "floor", "--yes"}});
  }
}

}  // namespace
}  // namespace jh::test
