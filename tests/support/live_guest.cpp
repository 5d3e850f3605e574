#include "support/live_guest.h"

#include "support/test.h"

namespace jh::test {
namespace {}  // namespace

MemoryStore larger_sample(const std::string& name, std::uint64_t more) {
  const TempFolder folder;
  unpack_sample(name, folder / "disk");
  MemoryStore disk = load(folder / "disk");
  disk.resize(disk.size() + more);
  return disk;
}

MemoryKernel plain_system() {
  static const MemoryKernel made = [] {
    MemoryKernel kernel;
    kernel.add_disk("vda", larger_sample("heather", 300 * mib));
    kernel.mount("/dev/vda1", "/", "ext4");
    return kernel;
  }();
  return made;
}

MemoryKernel system_with_volumes() {
  static const MemoryKernel made = [] {
    MemoryKernel kernel;
    kernel.add_disk("vda", larger_sample("fieldstation", 300 * mib));
    kernel.mount("/dev/mapper/field--station-root", "/", "ext4");
    kernel.mount("/dev/mapper/field--station-var----log", "/var/log", "ext4");
    kernel.mount("/dev/mapper/field--station-home", "/home", "ext4");
    kernel.use_swap("/dev/mapper/field--station-swap_1", 4 * mib, 3);
    return kernel;
  }();
  return made;
}

GrowRequest give(const Words& targets) {
  GrowRequest request;
  request.running = true;
  for (const std::string& target : targets) request.gives.push_back(parse_give(target));
  return request;
}

Words orders(const MemoryKernel& kernel) {
  Words out;
  for (const std::string& each : kernel.told)
    if (!each.starts_with("write")) out.push_back(each);
  return out;
}

void change(MemoryKernel& kernel, const GrowRequest& request, const std::string& notes) {
  live::LiveChange change(kernel, request, live::Notes(notes), /*to_change=*/true);
  change.carry_out(silent, [](const Step&) {});
}

void expect_sound(const MemoryKernel& kernel, const MemoryKernel& before) {
  for (std::size_t i = 0; i < before.disks_.size(); ++i)
    for (const auto& old : before.disks_[i].partitions) {
      const auto& now = kernel.disks_[i].partitions;
      const auto found = std::find_if(now.begin(), now.end(),
                                      [&](const auto& each) { return each.number == old.number; });
      ASSERT_NE(found, now.end());
      EXPECT_EQ(found->start, old.start);
      EXPECT_GE(found->size, old.size);
    }
  for (const auto& old : before.mapped_) {
    const auto found = std::find_if(kernel.mapped_.begin(), kernel.mapped_.end(),
                                    [&](const auto& each) { return each.name == old.name; });
    ASSERT_NE(found, kernel.mapped_.end()) << old.name;
    EXPECT_GE(found->size, old.size);
    EXPECT_TRUE(live::begins_with(kernel.maps_.at(old.name), before.maps_.at(old.name)));
  }
  for (const live::Mount& mount : kernel.mounts_) {
    EXPECT_GE(kernel.sizes_.at(mount.point).size, before.sizes_.at(mount.point).size);
    EXPECT_LE(kernel.sizes_.at(mount.point).size, kernel.device_size(mount.device));
  }
}

}  // namespace jh::test
