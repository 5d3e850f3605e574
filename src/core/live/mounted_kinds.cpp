#include "core/live/mounted_kinds.h"

#include <fmt/format.h>
#include <linux/btrfs.h>
#include <sys/ioctl.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>

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

void told(int result, const Mount& mount) {
  if (result != 0) failed("its driver does not make it larger", mount.point);
}

template <class Answer>
Answer asked(int point, unsigned long question, const Mount& mount, Answer answer = {}) {
  if (::ioctl(point, question, &answer) != 0) failed("its driver says nothing", mount.point);
  return answer;
}

void ask_xfs(int point, const Mount& mount, MountedSize& found) {
  const auto geometry = asked<XfsGeometry>(point, xfs_geometry, mount);
  found.block = geometry.block_size;
  found.used += geometry.data_blocks * geometry.block_size - found.size;  // its log
  found.size = geometry.data_blocks * geometry.block_size;
}

void grow_xfs(int point, const Mount& mount, std::uint64_t size, std::uint64_t block) {
  const auto geometry = asked<XfsGeometry>(point, xfs_geometry, mount);
  XfsGrowth growth{size / block, geometry.maximum};
  told(::ioctl(point, xfs_grow, &growth), mount);
}

void ask_btrfs(int point, const Mount& mount, MountedSize& found) {
  const auto all = asked<btrfs_ioctl_fs_info_args>(point, BTRFS_IOC_FS_INFO, mount);
  btrfs_ioctl_dev_info_args device{};
  device.devid = all.max_id;
  device = asked(point, BTRFS_IOC_DEV_INFO, mount, device);
  found.size = device.total_bytes;
  found.block = all.sectorsize;
  if (all.num_devices != 1)
    found.cannot_grow = fmt::format("it lies on {} devices", all.num_devices);
}

void grow_btrfs(int point, const Mount& mount, std::uint64_t size, std::uint64_t /*block*/) {
  const auto all = asked<btrfs_ioctl_fs_info_args>(point, BTRFS_IOC_FS_INFO, mount);
  btrfs_ioctl_vol_args call{};
  const std::string text = fmt::format("{}:{}", all.max_id, size);
  text.copy(call.name, sizeof(call.name) - 1);
  told(::ioctl(point, BTRFS_IOC_RESIZE, &call), mount);
}

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

// By the node that its driver uses: that has what is not on disk yet. Its sum may be behind.
void ask_ext(int /*point*/, const Mount& mount, MountedSize& found) {
  FileStore node(node_of(mount.device), Access::read_only);
  const FilesystemKind* kind = kind_in(node);
  if (kind == nullptr || kind->while_mounted == nullptr) return;
  LayerFacts said;
  kind->while_mounted(node, said);
  const std::uint64_t size = said.size.value_or(Bytes(found.size)).value();
  found.used += size - std::min(size, found.size);  // its own tables
  found.size = size;
  if (!said.blockers.empty()) found.cannot_grow = said.blockers.front().what();
  if (!may(Right::use_resources))
    found.cannot_grow = "its driver asks for a right that this process has not (CAP_SYS_RESOURCE)";
}

void grow_ext(int point, const Mount& mount, std::uint64_t size, std::uint64_t block) {
  std::uint64_t blocks = size / block;
  told(::ioctl(point, ext_grow, &blocks), mount);
}

constexpr std::array kinds{
    MountedKind{"ext4", "ext4", Bytes(0), false, ask_ext, grow_ext},
    MountedKind{"ext3", "ext3", Bytes(0), false, ask_ext, grow_ext},
    MountedKind{"ext2", "ext2", Bytes(0), false, ask_ext, grow_ext},
    MountedKind{"xfs", "XFS", Bytes(0), false, ask_xfs, grow_xfs},
    MountedKind{"btrfs", "btrfs", Bytes(256U << 20), true, ask_btrfs, grow_btrfs},
};

}  // namespace

const MountedKind* mounted_kind(const std::string& name) {
  const auto found = std::find_if(kinds.begin(), kinds.end(),
                                  [&](const MountedKind& kind) { return name == kind.name; });
  return found == kinds.end() ? nullptr : &*found;
}

std::string shown_kind(const std::string& name) {
  if (const MountedKind* kind = mounted_kind(name)) return kind->shown;
  return name == "vfat" ? "FAT" : name;
}

}  // namespace jh::live
