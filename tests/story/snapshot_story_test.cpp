// Images that keep snapshots inside: whatever is done to the disk, each of them reads as before, by
// a reader that has nothing of ours; and what a hypervisor goes back to is whole.
#include "core/store/file_store.h"
#include "core/store/host.h"
#include "support/children.h"
#include "support/containers.h"
#include "support/guest_writes.h"
#include "support/qcow2_snapshots.h"
#include "support/test.h"

namespace jh::test {
namespace {

class Snapshots : public testing::Test {
 protected:
  void SetUp() override {
    const std::string raw = unpack_sample("heather", folder_ / "raw.img");
    succeeds({"recast", raw, image_, "--quiet"});
    files::remove(raw);
  }
  bool write(const std::string& name, std::uint64_t size) {
    FileHost host(folder_ / "ledgers");
    return guest_writes_files(host, {image_}, name, size);
  }
  Words on_image(Words words) const {
    words.insert(words.begin() + 1, image_);
    words.emplace_back("--yes");
    return words;
  }
  ProgramResult run(const Words& words) const { return juneheath(on_image(words)); }
  // By the letter of the specification, by the audit, and by the system's checker.
  void expect_whole() {
    EXPECT_EQ(check_counts(image_), "");
    expect_status(0, {"audit", image_});
    const std::string raw = recast_raw(image_, folder_ / "seen.img");
    const auto place = juneheath({"survey", raw, "--json"});
    EXPECT_EQ(check_ext(raw, 1 * mib), "") << place.out;
    files::remove(raw);
  }
  // The same snapshots. Without one on record the disk's size is that of the disk: `size` before,
  // and as it is now; an undo takes such a record back.
  void expect_same(std::vector<SnapshotSeen> was, std::vector<SnapshotSeen> is,
                   std::uint64_t size) const {
    ASSERT_EQ(was.size(), is.size());
    for (std::size_t i = 0; i < was.size(); ++i) {
      if (was[i].disk_size == 0) was[i].disk_size = size;
      if (is[i].disk_size == 0) is[i].disk_size = disk_size();
      EXPECT_EQ(was[i].disk, is[i].disk) << "snapshot " << was[i].name << " reads differently";
      EXPECT_TRUE(was[i] == is[i]) << was[i].name << ": its name, size or saved memory differs";
    }
  }
  std::uint64_t disk_size() const {
    const auto raw = read_file(image_).substr(24, 8);
    std::uint64_t size = 0;
    for (const char c : raw) size = size << 8 | static_cast<unsigned char>(c);
    return size;
  }

  const TempFolder folder_;
  const std::string image_ = folder_ / "guest.qcow2";
};

TEST_F(Snapshots, StayThroughGrowingShrinkingCompactingAndUndo) {
  ASSERT_TRUE(write("before", 300'000));
  make_snapshot(image_, "before season");
  ASSERT_TRUE(write("june", 2'000'000));
  make_snapshot(image_, "with memory", 3 * mib);
  ASSERT_TRUE(write("july", 400'000));
  make_snapshot(image_, "of old", 0, /*with_size=*/false);
  const auto first = read_snapshots(image_);
  ASSERT_EQ(first.size(), 3U);
  expect_whole();
  const std::uint32_t before = file_digest(image_);
  const std::uint64_t size = disk_size();

  succeeds(on_image({"grow", "--by", "1GiB", "--give", "/"}), {"3 snapshots inside of"});
  expect_same(first, read_snapshots(image_), size);
  expect_whole();
  succeeds(on_image({"undo"}));
  EXPECT_EQ(file_digest(image_), before) << "the undo is to the byte";

  succeeds(on_image({"grow", "--by", "64MiB", "--give", "/"}));
  ASSERT_TRUE(write("august", 3'000'000));
  make_snapshot(image_, "larger");
  const auto second = read_snapshots(image_);
  succeeds(on_image({"shrink", "--to", "floor+20MiB"}));
  expect_same(second, read_snapshots(image_), size);
  expect_whole();
  ASSERT_TRUE(write("september", 200'000));
  succeeds(on_image({"compact"}));
  expect_same(second, read_snapshots(image_), size);
  expect_whole();

  // The guest goes back: each state is a disk of its own size, whole, and can grow again.
  for (const std::size_t back : {0U, 3U, 1U}) {
    revert_to(image_, back);
    SCOPED_TRACE(second[back].name);
    EXPECT_EQ(disk_size(), second[back].disk_size);
    expect_whole();
    succeeds(on_image({"grow", "--by", "32MiB", "--give", "/"}));
    expect_same(second, read_snapshots(image_), size);
    expect_whole();
  }
}

// What is left of a guest's memory behind the disk's end does not become a part of a larger disk.
TEST_F(Snapshots, MemorySavedBehindTheDiskIsNoPartOfIt) {
  make_snapshot(image_, "asleep", 5 * mib);
  revert_to(image_, 0);  // with the memory in the active tables, as while it is being read
  const auto was = read_snapshots(image_);
  const std::uint64_t size = disk_size();
  succeeds(on_image({"grow", "--by", "2GiB", "--give", "/"}));
  expect_same(was, read_snapshots(image_), size);
  expect_whole();
}

TEST_F(Snapshots, SurveySaysWhatEachOfThemKeeps) {
  make_snapshot(image_, "before season", 2 * mib);
  ASSERT_TRUE(write("june", 2'000'000));
  succeeds(on_image({"grow", "--by", "64MiB", "--give", "/"}));
  const std::string survey = juneheath({"survey", image_}).out;
  EXPECT_THAT(survey, HasSubstr("└─ snapshot 1 \"before season\" of 2026-"));
  const auto states = survey_of({image_})["disks"][0]["states"];
  ASSERT_EQ(states.size(), 2U);
  EXPECT_EQ(states[0]["kind"], "active");
  EXPECT_EQ(states[1]["kind"], "snapshot");
  EXPECT_EQ(states[1]["level"], 1);
  EXPECT_EQ(states[1]["memory"], 2 * mib);
  EXPECT_EQ(states[0]["disk_size"].get<std::uint64_t>(),
            states[1]["disk_size"].get<std::uint64_t>() + 64 * mib);
  EXPECT_GT(states[1]["alone"], 0);
}

// Random walks: the guest writes, snapshots are made and gone back to, and every command runs.
TEST_F(Snapshots, AnySequenceKeepsThem) {
  std::mt19937 random(seed_of_run());
  const int steps = takes_all() ? 200 : 24;
  int changes = 0;
  for (int i = 0; i < steps && !HasFailure(); ++i) {
    const auto was = read_snapshots(image_);
    const std::uint64_t size = disk_size();
    Words command;
    switch (random() % 7) {
      case 0:
        if (was.size() >= 8) continue;
        make_snapshot(image_, "s" + std::to_string(i), random() % 2 * (1 + random() % 3) * mib,
                      random() % 3 != 0);
        continue;
      case 1:
        if (was.empty()) continue;
        revert_to(image_, random() % was.size());
        expect_whole();
        continue;
      case 2:
        write("f" + std::to_string(i), 1 + random() % 3'000'000);
        continue;
      case 3:
        command = {"grow", "--by", std::to_string(1 + random() % 90) + "MiB", "--give", "/"};
        break;
      case 4:
        command = {"shrink", "--to", "floor+" + std::to_string(1 + random() % 40) + "MiB"};
        break;
      case 5:
        command = {"compact"};
        break;
      default:
        command = {"undo"};
    }
    ++changes;
    const std::string said = run(command).err;
    SCOPED_TRACE("step " + std::to_string(i) + ", " + command.front() + ": " + said);
    expect_same(was, read_snapshots(image_), size);
    expect_whole();
  }
  EXPECT_GT(changes, steps / 6);
}

// An undo would put back counts and lists that the hypervisor has changed since.
TEST_F(Snapshots, AnUndoIsRefusedWhenSnapshotsCameOrWentSince) {
  make_snapshot(image_, "before");
  const std::string kept = folder_ / "kept.qcow2";
  for (const char* since : {"made", "reverted", "made by a guest that wrote"}) {
    SCOPED_TRACE(since);
    files::copy_file(image_, kept, files::copy_options::overwrite_existing);
    succeeds(on_image({"grow", "--by", "64MiB", "--give", "/"}));
    if (since == std::string("reverted")) revert_to(image_, 0);
    // The hypervisor's clock says so.
    const bool newer = since != std::string("reverted");
    if (newer) make_snapshot(image_, "later", 0, true, 4'000'000'000);
    if (since == std::string("made by a guest that wrote")) {
      ASSERT_TRUE(write("june", 900'000));
    }
    const std::uint32_t now = file_digest(image_);
    expect_status(3, on_image({"undo"}),
                  {newer ? "made since and kept inside: snapshot \"later\""
                         : "of the 1 snapshot kept inside none is newer"});
    EXPECT_EQ(file_digest(image_), now);
    ASSERT_TRUE(files::remove(image_ + ".juneheath"));
    files::copy_file(kept, image_, files::copy_options::overwrite_existing);
  }
}

// Children of children, each of its own size: only the top one is written, and nothing of a parent
// shows where the child's disk ends, or ended once.
class Overlays : public Snapshots {
 protected:
  std::string bytes_of_disk(const std::string& image) {
    const std::string raw = recast_raw(image, folder_ / "disk.raw");
    std::string bytes = read_file(raw);
    files::remove(raw);
    return bytes;
  }
};

TEST_F(Overlays, GrowShrinkAndCompactInPlace) {
  const std::uint64_t size = disk_size();
  for (const int depth : {1, 3}) {
    std::string top = image_;
    Words below;
    for (int i = 0; i < depth; ++i) {
      below.push_back(top);
      top = new_child(top, "child" + std::to_string(depth * 10 + i) + ".qcow2", ImageFormat::qcow2,
                      size);
    }
    std::vector<std::uint32_t> digests;
    for (const std::string& parent : below) digests.push_back(file_digest(parent));
    SCOPED_TRACE(depth);
    FileHost host(folder_ / "ledgers");
    ASSERT_TRUE(guest_writes_files(host, {top}, "kept", 700'000));
    const std::uint32_t before = file_digest(top);
    const std::string was = bytes_of_disk(top);
    const auto run_on = [&](Words words) {
      words.insert(words.begin() + 1, top);
      words.emplace_back("--yes");
      const ProgramResult result = juneheath(words);
      EXPECT_EQ(result.status, 0) << words.front() << ": " << result.err;
      expect_status(0, {"audit", top});
      for (std::size_t i = 0; i < below.size(); ++i)
        EXPECT_EQ(file_digest(below[i]), digests[i]) << below[i] << " was written to";
    };
    const auto expect_sound = [&] {
      const std::string raw = recast_raw(top, folder_ / "look.raw");
      EXPECT_EQ(check_ext(raw, 1 * mib), "");
      files::remove(raw);
    };
    run_on({"grow", "--by", "64MiB", "--give", "/"});
    expect_sound();
    run_on({"undo"});
    EXPECT_EQ(file_digest(top), before);
    EXPECT_TRUE(bytes_of_disk(top) == was);
    run_on({"shrink", "--to", "floor+8MiB"});
    expect_sound();
    run_on({"compact"});
    expect_sound();
    // The disk alone becomes larger than ever: all behind its end is zeros, whatever lies below.
    const std::string small = bytes_of_disk(top);
    run_on({"grow", "--to", std::to_string(size + 32 * mib), "--give", "nothing"});
    const std::string large = bytes_of_disk(top);
    ASSERT_EQ(large.size(), size + 32 * mib);
    EXPECT_EQ(large.substr(0, small.size()) == small, true);
    EXPECT_EQ(large.find_first_not_of('\0', small.size()), std::string::npos)
        << "something of a parent shows through";
  }
}

}  // namespace
}  // namespace jh::test
