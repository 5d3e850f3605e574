// Changes of a running system, over a kernel in memory: what is done, and in which order.
#include "cli/terminal.h"
#include "support/live_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

TEST(Live, APlainPartitionGrowsOutsideIn) {
  MemoryKernel kernel = plain_system();
  const TempFolder notes;
  const std::uint64_t before = kernel.disks_[0].partitions[0].size;
  change(kernel, give({"/"}), notes.path());
  const std::uint64_t after = kernel.disks_[0].partitions[0].size;
  EXPECT_GE(after, before + 298 * mib);
  EXPECT_EQ(kernel.sizes_["/"].size, after / 4096 * 4096);
  EXPECT_EQ(orders(kernel), (Words{fmt::format("partition 1 of vda: {}", after),
                                   fmt::format("grow / to {}", after / 4096 * 4096)}));
  EXPECT_TRUE(kernel.held.empty());
  EXPECT_EQ(kernel.locks, Words{""});
  // Nothing is left: said so by name.
  const Error error =
      expect_error(Status::refused, "", [&] { change(kernel, give({"/"}), notes.path()); });
  EXPECT_EQ(error.reason(), Reason::no_room);
  EXPECT_THAT(cli::text_of(error.next()), HasSubstr("juneheath grow --live --give /"));
}

TEST(Live, AVolumeGrowsThroughAllLayers) {
  MemoryKernel kernel = system_with_volumes();
  const TempFolder notes;
  change(kernel, give({"/var/log=64MiB", "swap=16MiB", "/home"}), notes.path());
  // Twice: between the partition and the group others that wait go first.
  EXPECT_EQ(kernel.locks, (Words{"", "field-station", "", "field-station"}));
  const RunningSystem now(kernel, {});
  const Guest& guest = now.guest();
  ASSERT_EQ(guest.groups().size(), 1U);
  const VolumeGroup& group = guest.groups().front();
  EXPECT_EQ(group.open.group.free_extents(), 0U);
  for (const Layer& place : group.volumes) {
    const lvm::Volume& volume = guest.volume_of(place);
    const live::MappedDevice* device = now.mapped(group, volume);
    ASSERT_NE(device, nullptr);
    EXPECT_EQ(device->size, place.size.value()) << volume.name;
    if (volume.name != "root") {
      EXPECT_EQ(place.content.size, place.size) << volume.name;
    }
  }
  EXPECT_EQ(kernel.swaps_.size(), 1U);
  EXPECT_EQ(kernel.swaps_[0].priority, 3);
  // The same as a start would find it.
  MemoryKernel again(kernel);
  again.boot();
  ASSERT_EQ(again.mapped_.size(), kernel.mapped_.size());
  for (const auto& [name, table] : kernel.maps_) EXPECT_EQ(again.maps_[name], table) << name;
  EXPECT_EQ(again.disks_[0].partitions.size(), kernel.disks_[0].partitions.size());
  for (std::size_t i = 0; i < again.disks_[0].partitions.size(); ++i)
    EXPECT_EQ(again.disks_[0].partitions[i].size, kernel.disks_[0].partitions[i].size);
}

TEST(Live, AWholeDiskAsPhysicalVolumeGrows) {
  MemoryKernel kernel;
  kernel.add_disk("vdb", larger_sample("whole-disk-pv", 200 * mib));
  const std::string name = kernel.mapped_.front().name;
  kernel.mount("/dev/mapper/" + name, "/data", "ext4");
  kernel.disks_[0].holders = {"dm-0"};
  const TempFolder notes;
  const std::uint64_t before = kernel.mapped_.front().size;
  change(kernel, give({"/data"}), notes.path());
  EXPECT_GE(kernel.mapped_.front().size, before + 196 * mib);
  EXPECT_EQ(kernel.sizes_["/data"].size, kernel.mapped_.front().size);
}

TEST(Live, ANewDiskGoesToTheGroup) {
  for (const std::uint32_t sector : {512U, 4096U}) {
    MemoryKernel kernel = system_with_volumes();
    kernel.add_disk("vdb", MemoryStore(256 * mib), sector);
    const TempFolder notes;
    GrowRequest request = give({"/home"});
    request.add_disks.emplace_back("/dev/vdb", Bytes(0));
    const std::uint64_t before = kernel.sizes_["/home"].size;
    change(kernel, request, notes.path());
    ASSERT_EQ(kernel.disks_[1].partitions.size(), 1U);
    EXPECT_GE(kernel.sizes_["/home"].size, before + 340 * mib);
    EXPECT_EQ(Notes(notes.path()).get(live::disk_note), std::nullopt);
    const RunningSystem now(kernel, {});
    EXPECT_EQ(now.guest().groups().front().devices.size(), 2U);
  }
}

// A dry look changes nothing, takes no lock, and needs no rights beyond reading.
TEST(Live, ADryRunAsksOnly) {
  MemoryKernel kernel = system_with_volumes();
  const TempFolder notes;
  const LiveChange change(kernel, give({"/home"}), Notes(notes.path()), /*to_change=*/false);
  EXPECT_GT(change.plan().steps.size(), 4U);
  EXPECT_EQ(kernel.calls, 0U);
  EXPECT_TRUE(kernel.locks.empty());
  EXPECT_TRUE(kernel.told.empty());
}

// A console made the disk larger, and the kernel has not heard of it.
TEST(Live, DisksAreAskedHowLargeTheyAre) {
  for (const bool to_change : {false, true})
    for (const bool can : {false, true}) {
      MemoryKernel kernel = plain_system();
      const std::uint64_t now = kernel.disks_[0].size;
      kernel.disks_[0].can_rescan = can;
      kernel.enlarged_unseen["vda"] = now + 200 * mib;
      const TempFolder notes;
      const LiveChange change(kernel, give({"/"}), Notes(notes.path()), to_change);
      EXPECT_EQ(change.system().guest().disks().front().size().value(),
                can ? now + 200 * mib : now);
    }
}

TEST(Live, TablesAreKeptAndCanBePutBack) {
  MemoryKernel kernel = system_with_volumes();
  const TempFolder folder;
  const LiveChange change(kernel, give({"/home"}), Notes(folder.path()), /*to_change=*/true);
  const live::TablesKept kept = keep_tables(change.system(), change.plan(), folder / "kept");
  EXPECT_EQ(kept.command, "sh " + (folder / "kept/put-back"));
  const std::string script = read_file(folder / "kept/put-back");
  EXPECT_THAT(script, HasSubstr("of=/dev/vda "));
  EXPECT_THAT(script, HasSubstr("of=/dev/vda3 "));
  // Whatever stands on the tables must be as long as it was before the first of them is put back.
  const auto& home =
      *std::find_if(kernel.mapped_.begin(), kernel.mapped_.end(),
                    [](const auto& device) { return device.name.ends_with("-home"); });
  const std::string check =
      "\nsame " + home.path.substr(5) + " " + std::to_string(home.size / 512) + "\n";
  ASSERT_NE(script.find(check), std::string::npos) << script;
  EXPECT_LT(script.find(check), script.find("\ndd if="));
  // The protective record and the first copy of the table, as they are on the disk.
  const MemoryStore first = load(folder / "kept/vda-1.bin");
  Buffer there(first.size());
  Buffer here(first.size());
  MemoryStore(first, "kept").read(0, here);
  kernel.bytes_.at("vda").read(0, there);
  EXPECT_EQ(here, there);
}

}  // namespace
}  // namespace jh::test
