// Changes of a running system that go wrong, over a kernel in memory: every call that fails or is
// the last one, a kernel that lies, others that come in between, and everything that is refused.
#include "core/report/report.h"
#include "support/live_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

// Somebody else changes the group while the locks are given away for a moment: the partition is
// larger by then, and the kernel knows.
void somebody_first(MemoryKernel& kernel, const GrowRequest& request, const std::string& notes) {
  kernel.at_lock = [&kernel, request, notes](const std::string&) {
    if (kernel.locks.size() != 2) return;
    const auto once = std::exchange(kernel.at_lock, nullptr);  // this, while it runs
    change(kernel, request, notes);
  };
}

TEST(Live, WhatOthersDidMeanwhileIsPlannedAround) {
  MemoryKernel kernel = system_with_volumes();
  const TempFolder notes;
  const std::uint64_t logs = kernel.sizes_["/var/log"].size;
  const std::uint64_t home = kernel.sizes_["/home"].size;
  somebody_first(kernel, give({"/home=160MiB"}), notes / "theirs");
  change(kernel, give({"/var/log=160MiB"}), notes / "ours");
  EXPECT_EQ(kernel.at_lock, nullptr) << "nobody came";
  EXPECT_EQ(kernel.sizes_["/var/log"].size, logs + 160 * mib);
  EXPECT_EQ(kernel.sizes_["/home"].size, home + 160 * mib);
  EXPECT_EQ(Notes(notes / "ours").get(live::goal_note), std::nullopt);
}

TEST(Live, WhatOthersTookMeanwhileIsSaid) {
  MemoryKernel kernel = system_with_volumes();
  const MemoryKernel before(kernel);
  const TempFolder notes;
  const std::uint64_t logs = kernel.sizes_["/var/log"].size;
  somebody_first(kernel, give({"/home"}), notes / "theirs");
  const Error error = expect_error(
      Status::refused, "", [&] { change(kernel, give({"/var/log=160MiB"}), notes / "ours"); });
  EXPECT_EQ(error.reason(), Reason::no_room) << error.what();
  EXPECT_EQ(error.outcome(), Outcome::sound);
  EXPECT_EQ(kernel.sizes_["/var/log"].size, logs);
  expect_sound(kernel, before);
}

// The end of all ways: as the change would have made it at once.
void expect_same(const MemoryKernel& kernel, const MemoryKernel& wanted) {
  for (const auto& [point, size] : wanted.sizes_)
    EXPECT_EQ(kernel.sizes_.at(point).size, size.size) << point;
  for (const auto& device : wanted.mapped_)
    EXPECT_EQ(kernel.maps_.at(device.name), wanted.maps_.at(device.name));
  ASSERT_EQ(kernel.swaps_.size(), wanted.swaps_.size());
  for (std::size_t i = 0; i < wanted.swaps_.size(); ++i)
    EXPECT_EQ(kernel.swaps_[i].size, wanted.swaps_[i].size);
}

struct Scenario {
  const char* name;
  MemoryKernel (*kernel)();
  Words gives;
  std::string disk;
};
void PrintTo(const Scenario& scenario, std::ostream* out) { *out << scenario.name; }
MemoryKernel with_blank() {
  MemoryKernel kernel = system_with_volumes();
  kernel.add_disk("vdb", MemoryStore(256 * mib));
  return kernel;
}
const std::vector<Scenario> scenarios{
    {"Plain", plain_system, {"/"}, ""},
    {"Volumes", system_with_volumes, {"/var/log=50%", "/home"}, ""},
    {"Swap", system_with_volumes, {"swap"}, ""},
    {"NewDisk", with_blank, {"/home"}, "/dev/vdb"}};

class LiveTrouble : public testing::TestWithParam<Scenario> {
 protected:
  GrowRequest request() const {
    GrowRequest made = give(GetParam().gives);
    if (!GetParam().disk.empty()) made.add_disks.emplace_back(GetParam().disk, Bytes(0));
    return made;
  }
  // A second run does the rest; when all was done it says that there is nothing to do.
  void run_again(MemoryKernel& kernel, const std::string& notes, const std::string& when) {
    kernel.trouble = {};
    try {
      change(kernel, request(), notes);
    } catch (const Error& error) {
      EXPECT_EQ(error.reason(), Reason::no_room)
          << when << ": " << error.what() << " " << error.where();
    }
  }
};

TEST_P(LiveTrouble, EveryCallFailsInTurn) {
  const MemoryKernel before = GetParam().kernel();
  MemoryKernel wanted(before);
  const TempFolder folder;
  change(wanted, request(), folder / "wanted");
  const std::uint64_t calls = wanted.calls;
  ASSERT_GT(calls, 2U);
  for (std::uint64_t n = 1; n <= calls; ++n) {
    const std::string when = fmt::format("call {} of {}: {}", n, calls, wanted.told[n - 1]);
    SCOPED_TRACE(when);
    const std::string notes = folder / std::to_string(n);
    MemoryKernel kernel(before);
    kernel.trouble.fails = n;
    const Error error = expect_error(Status::io, "", [&] { change(kernel, request(), notes); });
    EXPECT_FALSE(error.where().empty());
    EXPECT_TRUE(kernel.held.empty());
    expect_sound(kernel, before);
    run_again(kernel, notes, when);
    expect_same(kernel, wanted);
  }
}

// The process is killed before or after any call; or the power fails, and the system starts again.
TEST_P(LiveTrouble, TheProcessDiesAtEveryCall) {
  const MemoryKernel before = GetParam().kernel();
  MemoryKernel wanted(before);
  const TempFolder folder;
  change(wanted, request(), folder / "wanted");
  for (std::uint64_t n = 1; n <= wanted.calls; ++n)
    for (const bool after : {false, true})
      for (const bool starts_again : {false, true}) {
        const std::string when =
            fmt::format("{} call {} of {}: {}{}", after ? "after" : "before", n, wanted.calls,
                        wanted.told[n - 1], starts_again ? ", started again" : "");
        SCOPED_TRACE(when);
        const std::string notes = folder / fmt::format("{}{}{}", n, after, starts_again);
        MemoryKernel kernel(before);
        (after ? kernel.trouble.dies_after : kernel.trouble.dies_before) = n;
        EXPECT_THROW(change(kernel, request(), notes), Died);
        expect_sound(kernel, before);
        if (starts_again) {
          kernel.boot();
          // As the guest does from its fstab.
          for (const live::SwapInUse& swap : before.swaps_)
            if (kernel.swaps_.empty()) kernel.use_swap(swap.path, 0, swap.priority);
        }
        run_again(kernel, notes, when);
        expect_same(kernel, wanted);
        EXPECT_EQ(Notes(notes).get(live::swap_note), std::nullopt);
      }
}

// A call that says that it is done, and is not: seen at once.
TEST_P(LiveTrouble, AKernelThatLiesIsNoticed) {
  const MemoryKernel before = GetParam().kernel();
  MemoryKernel wanted(before);
  const TempFolder folder;
  change(wanted, request(), folder / "wanted");
  int noticed = 0;
  for (std::uint64_t n = 1; n <= wanted.calls; ++n) {
    if (wanted.told[n - 1].starts_with("write")) continue;  // a disk that lies is another matter
    SCOPED_TRACE(wanted.told[n - 1]);
    MemoryKernel kernel(before);
    kernel.trouble.lies = n;
    try {
      change(kernel, request(), folder / std::to_string(n));
      EXPECT_TRUE(wanted.told[n - 1].starts_with("swap")) << "it was not noticed";
    } catch (const Error& error) {
      EXPECT_EQ(error.status(), Status::io);
      EXPECT_THAT(error.what(), HasSubstr("the kernel says"));
      ++noticed;
    }
    expect_sound(kernel, before);
  }
  EXPECT_GT(noticed, 0);
}

INSTANTIATE_TEST_SUITE_P(Scenarios, LiveTrouble, testing::ValuesIn(scenarios), by_name);

// Refused, by name, and nothing was told to the kernel or written.
void expect_refusal(MemoryKernel kernel, const GrowRequest& request, Status status,
                    const std::string& words) {
  SCOPED_TRACE(words);
  const TempFolder notes;
  const Error error = expect_error(status, words, [&] { change(kernel, request, notes.path()); });
  EXPECT_FALSE(error.next().empty()) << error.what();
  EXPECT_EQ(orders(kernel), Words{});
  EXPECT_EQ(kernel.calls, 0U);
}

// What growth refuses is not advised: a disk that is one of the paths to another.
TEST(Live, NoAdviceForADiskThatIsAPartOfAnother) {
  const auto advised = [](MemoryKernel& kernel) {
    const live::RunningSystem system(kernel, {});
    std::string all;
    std::size_t commands = 0;
    for (const SurveyAdvice& advice : advice_for(system.guest())) {
      all += advice.what + "\n";
      commands += advice.next.command() != nullptr ? 1 : 0;
    }
    return std::pair(all, commands);
  };
  MemoryKernel kernel = plain_system();
  EXPECT_GT(advised(kernel).second, 0U);
  kernel.disks_[0].holders = {"dm-7"};
  const auto [words, commands] = advised(kernel);
  EXPECT_EQ(commands, 0U) << words;
  EXPECT_THAT(words, HasSubstr("a part of dm-7"));
}

TEST(Live, WhatIsRefusedIsSaid) {
  const GrowRequest root = give({"/"});
  MemoryKernel kernel = plain_system();
  kernel.rights_lacking = "this user is not root";
  expect_refusal(kernel, root, Status::refused, "administrator only: this user is not root");

  kernel = plain_system(), kernel.mounts_[0].read_only = true;
  expect_refusal(kernel, root, Status::refused, "root filesystem is mounted read-only");
  kernel = system_with_volumes(), kernel.mounts_[2].read_only = true;
  expect_refusal(kernel, give({"/home"}), Status::refused, "/home is mounted read-only");
  kernel = plain_system(), kernel.disks_[0].read_only = true;
  expect_refusal(kernel, root, Status::refused, "the disk is read-only");
  kernel = plain_system(), kernel.disks_[0].holders = {"dm-7"};
  expect_refusal(kernel, root, Status::refused, "a part of dm-7");
  kernel = plain_system(), kernel.missing = {"/dev/vda"};
  expect_refusal(kernel, root, Status::refused, "whose device is not here");
  expect_refusal(MemoryKernel(), root, Status::refused, "no disks of its own");
  kernel = plain_system(), kernel.disks_[0].is_file = true;
  expect_refusal(kernel, root, Status::refused, "no disks of its own");
  kernel = plain_system(), kernel.mounts_.clear();
  expect_refusal(kernel, give({"p1"}), Status::refused, "is not mounted");
  kernel = plain_system(), kernel.sizes_["/"].cannot_grow = "its driver is too old";
  expect_refusal(kernel, root, Status::unsupported,
                 "/ cannot grow while it is mounted: its driver is too old");
  kernel = plain_system(), kernel.frozen = {"/"};
  expect_refusal(kernel, root, Status::refused, "frozen");
  kernel = system_with_volumes(), kernel.frozen = {"/home"};
  expect_refusal(kernel, give({"/home"}), Status::refused, "frozen");
  kernel = plain_system(), kernel.disks_[0].partitions[0].start += 512;
  expect_refusal(kernel, root, Status::refused, "another partition 1 than the table");
  kernel = system_with_volumes(), kernel.memory = 10 * mib;
  expect_refusal(kernel, give({"swap"}), Status::refused, "swap would be out of use");
  kernel = system_with_volumes();
  for (auto& device : kernel.mapped_) device.suspended = true;
  expect_refusal(kernel, give({"/home"}), Status::refused, "a volume is suspended");
  kernel = system_with_volumes();
  kernel.maps_["field--station-root"][0].values += "0";
  expect_refusal(kernel, give({"/home"}), Status::refused, "elsewhere than its group's metadata");
  kernel = system_with_volumes();
  std::erase_if(kernel.mapped_,
                [](const auto& each) { return each.name == "field--station-home"; });
  kernel.mounts_.pop_back();
  expect_refusal(kernel, give({"field-station/home"}), Status::refused, "not active");

  GrowRequest other = root;
  other.images = {"/dev/vdz"};
  expect_refusal(plain_system(), other, Status::refused, "no such disk");
}

// Snapshots of one volume, or one that stands still, are no matter of the others.
TEST(Live, WhatAnotherVolumeIsAtStopsNobody) {
  MemoryKernel kernel = system_with_volumes();
  kernel.maps_["field--station-root"][0].kind = "snapshot-origin";
  for (auto& device : kernel.mapped_) device.suspended = device.name == "field--station-root";
  const TempFolder notes;
  change(kernel, give({"/home=64MiB"}), notes.path());
  EXPECT_FALSE(orders(kernel).empty());
}

TEST(Live, OnlyAnEmptyDiskIsAdded) {
  GrowRequest request = give({"/home"});
  request.add_disks.emplace_back("/dev/vdb", Bytes(0));
  expect_refusal(system_with_volumes(), request, Status::refused, "no such disk");
  MemoryKernel kernel = with_blank();
  const Buffer byte{1};
  for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{200} * mib, 256 * mib - 1}) {
    MemoryKernel other(kernel);
    other.bytes_.at("vdb").write(at, byte);
    expect_refusal(other, request, Status::refused, "not empty");
  }
  kernel.disks_[1].partitions.push_back({1, "/dev/vdb1", {250, 17}, mib, mib, {}});
  expect_refusal(kernel, request, Status::refused, "has partitions");
  kernel.disks_[1].partitions.clear();
  kernel.disks_[1].holders = {"md0"};
  expect_refusal(kernel, request, Status::refused, "in use by md0");
  kernel.disks_[1].holders.clear();
  kernel.disks_[1].read_only = true;
  expect_refusal(kernel, request, Status::refused, "read-only");
  kernel.disks_[1].read_only = false;
  kernel.mounts_.push_back({kernel.disks_[1].device, "/srv", "ext4", "/dev/vdb", false});
  kernel.sizes_["/srv"] = {256 * mib, 0, 4096, {}};
  expect_refusal(kernel, request, Status::refused, "mounted at /srv");
  kernel.mounts_.pop_back();
  kernel.use_swap("/dev/vdb");
  expect_refusal(kernel, request, Status::refused, "in use as swap");
}

// Without a target: the one place that could take the room, on whatever disk; or all of them, to
// choose from.
TEST(Live, TheOnlyPlaceWithRoomIsMeant) {
  MemoryKernel kernel = plain_system();
  kernel.add_disk("vdb", larger_sample("whole-disk-pv", 0));
  kernel.mount("/dev/dm-0", "/data", "ext4");
  const TempFolder notes;
  const auto target = [&] {
    return LiveChange(kernel, give({}), Notes(notes.path()), /*to_change=*/false).plan().target;
  };
  EXPECT_EQ(target(), "/");
  kernel.resize_disk("vdb", kernel.disks_[1].size + 100 * mib);
  expect_refusal(kernel, give({}), Status::refused, "several places could take the room");
  change(kernel, give({"/"}), notes.path());
  EXPECT_EQ(target(), "/data");
  change(kernel, give({}), notes.path());
  try {
    target();
    FAIL() << "there is no room";
  } catch (const Error& error) {
    EXPECT_EQ(error.reason(), Reason::no_room) << error.what();
  }
}

}  // namespace
}  // namespace jh::test
