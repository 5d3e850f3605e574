// What the drivers of mounted filesystems are asked and told.
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/btrfs.h>
#include <sys/ioctl.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <thread>

#include "core/base/errors.h"
#include "core/fs/filesystem.h"
#include "core/live/linux_kernel.h"
#include "core/store/file_store.h"

namespace jh::live {
namespace {

// "The XFS growing interface", as the kernel's headers have it; they are not everywhere installed.
struct XfsGeometry {
  std::uint32_t block_size, extent, group_blocks, groups, log_blocks, sector, inode, maximum;
  std::uint64_t data_blocks, realtime_blocks, realtime_extents, log_start;
  unsigned char uuid[16];
  std::uint32_t stripe_unit, stripe_width;
  std::int32_t version;
  std::uint32_t flags, log_sector, realtime_sector, directory_block;
};
struct XfsGrowth {
  std::uint64_t blocks;
  std::uint32_t inode_percent;
};
constexpr unsigned long xfs_geometry = _IOR('X', 100, XfsGeometry);
constexpr unsigned long xfs_grow = _IOW('X', 110, XfsGrowth);
constexpr unsigned long ext_grow = _IOW('f', 16, std::uint64_t);

// The node of a device, as the kernel names it.
std::string node_of(const DeviceNumber& device) {
  namespace files = std::filesystem;
  std::error_code error;
  const files::path link = files::read_symlink("/sys/dev/block/" + device.text(), error);
  const std::string name = link.filename().string();
  if (const std::string node = node_named(name); files::exists(node)) return node;
  std::ifstream file("/sys/block/" + name + "/dm/name");
  std::string mapped;
  std::getline(file, mapped);
  return "/dev/mapper/" + mapped;
}

// What a mount's point leads to is looked at again when it is used: something may lie over it now.
Descriptor open_mount(const Mount& mount) {
  Descriptor place = opened(mount.point, O_RDONLY | O_DIRECTORY);
  const auto reached = mount_number(*place);
  if (reached && mount.number != 0 && *reached != mount.number)
    refuse("another filesystem is mounted over it by now", mount.point,
           "mount it at another place too, or unmount what lies over it");
  return place;
}

}  // namespace

// The kernel does not tell; it lets whoever writes wait, and not be ended. So another process makes
// a file without a name, which goes with it, and this one does not wait for long. If it does not
// come back, it ends when the filesystem is thawed.
void LinuxKernel::check_takes_writes(const Mount& mount) {
  const Descriptor place(open_mount(mount));
  const pid_t probe = ::fork();
  if (probe < 0) failed("no process can be started", mount.point);
  if (probe == 0) {
    ::openat(*place, ".", O_TMPFILE | O_WRONLY | O_CLOEXEC, 0600);
    ::_exit(0);
  }
  for (int tries = 0; tries < 300; ++tries) {
    if (::waitpid(probe, nullptr, WNOHANG) != 0) return;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  ::kill(probe, SIGKILL);
  refuse("the filesystem is frozen: whoever writes to it has to wait", mount.point,
         "whoever froze it, a backup or a snapshot being made, has to thaw it; then run again");
}

MountedSize LinuxKernel::size_of(const Mount& mount) {
  MountedSize found;
  struct statvfs facts {};
  const Descriptor point(open_mount(mount));
  if (::fstatvfs(*point, &facts) != 0) failed("its driver says nothing", mount.point);
  found.size = facts.f_blocks * facts.f_frsize;
  found.used = (facts.f_blocks - facts.f_bfree) * facts.f_frsize;
  found.block = facts.f_frsize;
  if (mount.kind == "xfs") {
    const Descriptor fd(open_mount(mount));
    XfsGeometry geometry{};
    if (::ioctl(*fd, xfs_geometry, &geometry) != 0) failed("its driver says nothing", mount.point);
    found.block = geometry.block_size;
    found.used += geometry.data_blocks * geometry.block_size - found.size;  // its log
    found.size = geometry.data_blocks * geometry.block_size;
  } else if (mount.kind == "btrfs") {
    const Descriptor fd(open_mount(mount));
    btrfs_ioctl_fs_info_args all{};
    if (::ioctl(*fd, BTRFS_IOC_FS_INFO, &all) != 0) failed("its driver says nothing", mount.point);
    btrfs_ioctl_dev_info_args device{};
    device.devid = all.max_id;
    if (::ioctl(*fd, BTRFS_IOC_DEV_INFO, &device) != 0)
      failed("its driver says nothing", mount.point);
    found.size = device.total_bytes;
    found.block = all.sectorsize;
    if (all.num_devices != 1)
      found.cannot_grow = fmt::format("it lies on {} devices", all.num_devices);
  } else if (mount.kind == "ext4" || mount.kind == "ext3" || mount.kind == "ext2") {
    // By the node that its driver uses: that has what is not on disk yet. Its sum may be behind.
    FileStore node(node_of(mount.device), Access::read_only);
    const FilesystemKind* kind = kind_in(node);
    if (kind != nullptr && kind->while_mounted != nullptr) {
      LayerFacts said;
      kind->while_mounted(node, said);
      const std::uint64_t size = said.size.value_or(Bytes(found.size)).value();
      found.used += size - std::min(size, found.size);  // its own tables
      found.size = size;
      if (!said.blockers.empty()) found.cannot_grow = said.blockers.front().what();
      if (!may(Right::use_resources))
        found.cannot_grow =
            "its driver asks for a right that this process has not (CAP_SYS_RESOURCE)";
    }
  } else {
    found.cannot_grow = "the driver of " + mount.kind + " does not do that";
  }
  return found;
}

void LinuxKernel::grow(const Mount& mount, std::uint64_t size) {
  const Descriptor fd(open_mount(mount));
  int result = -1;
  if (mount.kind == "xfs") {
    XfsGeometry geometry{};
    if (::ioctl(*fd, xfs_geometry, &geometry) != 0) failed("its driver says nothing", mount.point);
    XfsGrowth growth{size / geometry.block_size, geometry.maximum};
    result = ::ioctl(*fd, xfs_grow, &growth);
  } else if (mount.kind == "btrfs") {
    btrfs_ioctl_fs_info_args all{};
    if (::ioctl(*fd, BTRFS_IOC_FS_INFO, &all) != 0) failed("its driver says nothing", mount.point);
    btrfs_ioctl_vol_args call{};
    const std::string text = fmt::format("{}:{}", all.max_id, size);
    text.copy(call.name, sizeof(call.name) - 1);
    result = ::ioctl(*fd, BTRFS_IOC_RESIZE, &call);
  } else {
    std::uint64_t blocks = size / size_of(mount).block;
    result = ::ioctl(*fd, ext_grow, &blocks);
  }
  if (result != 0) failed("its driver does not make it larger", mount.point);
  ::syncfs(*fd);
}

}  // namespace jh::live
