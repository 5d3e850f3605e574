// What the kernel says: sysfs and proc.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <functional>
#include <sstream>

#include "core/base/descriptor.h"
#include "core/base/host_lists.h"
#include "core/live/linux_kernel.h"
#include "core/live/mounted_kinds.h"

namespace jh::live {
namespace {

namespace files = std::filesystem;

std::string line_of(const files::path& path) { return first_line_of(path.string()); }

std::uint64_t number_in(const std::string& text) {
  std::uint64_t number = 0;
  std::from_chars(text.data(), text.data() + text.size(), number);
  return number;
}

DeviceNumber device_in(const std::string& text) {
  const std::size_t colon = text.find(':');
  if (colon == std::string::npos) return {};
  return {static_cast<unsigned>(number_in(text.substr(0, colon))),
          static_cast<unsigned>(number_in(text.substr(colon + 1)))};
}

std::vector<std::string> names_in(const files::path& folder) {
  std::vector<std::string> names;
  std::error_code error;
  for (files::directory_iterator it(folder, error), end; !error && it != end; it.increment(error))
    names.push_back(it->path().filename().string());
  std::sort(names.begin(), names.end());
  return names;
}

// "sda" before "sdb", "sdz" before "sdaa".
bool before(const std::string& a, const std::string& b) {
  return a.size() != b.size() ? a.size() < b.size() : a < b;
}

// What the disk says of itself, or else which one it was since this system was started.
std::string identity_of_disk(const files::path& folder) {
  for (const char* layer : {"wwid", "device/wwid", "device/serial", "serial"}) {
    std::string text = line_of(folder / layer);
    while (!text.empty() && text.back() == ' ') text.pop_back();
    if (!text.empty()) return text;
  }
  return "number " + line_of(folder / "diskseq") + " since start " +
         line_of("/proc/sys/kernel/random/boot_id");
}

// A loop device that shows a disk, or a part of one, holds it.
void add_loops(std::vector<KernelDisk>& disks,
               const std::function<std::optional<DeviceNumber>(const std::string&)>& device_at) {
  for (const std::string& name : names_in("/sys/block")) {
    const std::string behind = line_of(files::path("/sys/block") / name / "loop" / "backing_file");
    if (behind.empty()) continue;
    const auto device = device_at(behind);
    if (!device) continue;
    for (KernelDisk& disk : disks) {
      if (disk.device == *device) disk.holders.push_back(name);
      for (KernelPartition& partition : disk.partitions)
        if (partition.device == *device) partition.holders.push_back(name);
    }
  }
}

constexpr std::uint64_t sysfs_unit = 512;  // sysfs counts in these, whatever the disk has

// The kernel's own, and what is built of others: they are no disks of this system.
bool is_no_disk(const std::string& name, const files::path& folder) {
  for (const char* prefix : {"ram", "zram", "dm-", "md", "sr", "fd", "nbd"})
    if (name.starts_with(prefix)) return true;
  // A loop device without a file has no size; with one it is a file of some filesystem here.
  return number_in(line_of(folder / "size")) == 0;
}

}  // namespace

// A "/" in a device's name is a "!" in the kernel's folders.
std::string node_named(std::string name) {
  std::replace(name.begin(), name.end(), '!', '/');
  return "/dev/" + name;
}

std::vector<KernelDisk> LinuxKernel::disks() {
  std::vector<KernelDisk> all;
  const files::path root = "/sys/block";
  for (const std::string& name : names_in(root)) {
    const files::path folder = root / name;
    if (is_no_disk(name, folder)) continue;
    KernelDisk disk;
    disk.name = name;
    disk.path = node_named(name);
    disk.device = device_in(line_of(folder / "dev"));
    if (line_of(folder / "hidden") == "1" || line_of(folder / "dev").empty())
      disk.trouble = "it is one of several paths to a disk, and has no device of its own";
    disk.identity = identity_of_disk(folder);
    disk.size = number_in(line_of(folder / "size")) * sysfs_unit;
    disk.sector_size =
        static_cast<std::uint32_t>(number_in(line_of(folder / "queue/logical_block_size")));
    disk.read_only = line_of(folder / "ro") == "1";
    disk.is_file = name.starts_with("loop");
    disk.can_rescan = files::exists(folder / "device/rescan");
    disk.holders = names_in(folder / "holders");
    for (const std::string& inside : names_in(folder)) {
      const files::path part = folder / inside;
      if (!files::exists(part / "partition")) continue;
      KernelPartition partition;
      partition.number = static_cast<std::uint32_t>(number_in(line_of(part / "partition")));
      partition.path = node_named(inside);
      partition.device = device_in(line_of(part / "dev"));
      partition.start = number_in(line_of(part / "start")) * sysfs_unit;
      partition.size = number_in(line_of(part / "size")) * sysfs_unit;
      partition.holders = names_in(part / "holders");
      disk.partitions.push_back(std::move(partition));
    }
    all.push_back(std::move(disk));
  }
  add_loops(all, [this](const std::string& path) { return device_at(path); });
  std::sort(all.begin(), all.end(),
            [](const KernelDisk& a, const KernelDisk& b) { return before(a.name, b.name); });
  return all;
}

std::vector<MappedDevice> LinuxKernel::mapped() {
  std::vector<MappedDevice> all;
  for (const std::string& name : names_in("/sys/block")) {
    const files::path folder = files::path("/sys/block") / name;
    if (!name.starts_with("dm-") || !files::exists(folder / "dm")) continue;
    MappedDevice device;
    device.name = line_of(folder / "dm/name");
    device.uuid = line_of(folder / "dm/uuid");
    device.path = "/dev/" + name;
    // Where nothing makes nodes by the kernel's names there is one by the mapper's.
    if (!files::exists(device.path)) device.path = "/dev/mapper/" + device.name;
    device.device = device_in(line_of(folder / "dev"));
    device.size = number_in(line_of(folder / "size")) * sysfs_unit;
    device.suspended = line_of(folder / "dm/suspended") == "1";
    all.push_back(std::move(device));
  }
  return all;
}

std::string folder_of_locks(const std::string& configuration) {
  std::string folder = "/run/lock/lvm";
  std::istringstream lines(configuration);
  for (std::string line; std::getline(lines, line);) {
    line.resize(std::min(line.find('#'), line.size()));
    // locking_dir = "/a/folder", or as global/locking_dir where sections are not opened.
    const std::size_t name = line.find("locking_dir");
    const std::size_t equals = line.find('=');
    const std::size_t open = line.find('"');
    if (name == std::string::npos || equals == std::string::npos || open == std::string::npos ||
        name > equals || equals > open)
      continue;
    const std::string before = line.substr(0, name);
    const std::string between = line.substr(name + 11, equals - name - 11);
    const std::size_t close = line.find('"', open + 1);
    const bool whole =
        before.empty() || std::string(" \t{/").find(before.back()) != std::string::npos;
    if (whole && between.find_first_not_of(" \t") == std::string::npos &&
        close != std::string::npos && close > open + 1)
      folder = line.substr(open + 1, close - open - 1);
  }
  return folder;
}

std::vector<Mount> parse_mounts(const std::string& text) {
  std::vector<Mount> all;
  for (const MountLine& line : parse_mount_lines(text)) {
    // A folder of a filesystem shown elsewhere is no name for the whole; a subvolume is one.
    const MountedKind* kind = mounted_kind(line.kind);
    if (line.root != "/" && (kind == nullptr || !kind->mounts_by_parts)) continue;
    const DeviceNumber device = device_in(line.device);
    if (device.major == 0 && !line.source.starts_with("/dev/")) continue;
    all.push_back({device, line.point, line.kind, line.source, line.read_only, line.number, false});
  }
  return all;
}

std::vector<SwapInUse> parse_swaps(const std::string& text) {
  std::vector<SwapInUse> all;
  std::istringstream lines(text);
  std::string line;
  std::getline(lines, line);  // the heads of the columns
  while (std::getline(lines, line)) {
    std::istringstream words(line);
    SwapInUse swap;
    std::string kind;
    std::uint64_t size = 0;
    std::uint64_t used = 0;
    if (!(words >> swap.path >> kind >> size >> used >> swap.priority)) continue;
    if (kind != "partition") continue;
    swap.path = unescaped_word(swap.path);
    swap.size = size * 1024;
    swap.used = used * 1024;
    all.push_back(std::move(swap));
  }
  return all;
}

std::optional<std::uint64_t> mount_number(int descriptor) {
  std::ifstream info(fmt::format("/proc/self/fdinfo/{}", descriptor));
  for (std::string key, value; info >> key >> value;)
    if (key == "mnt_id:") return number_in(value);
  return std::nullopt;
}

std::vector<Mount> LinuxKernel::mounts() {
  std::vector<Mount> all = parse_mounts(read_text("/proc/self/mountinfo", 16U << 20).value_or(""));
  for (Mount& mount : all) {
    const Descriptor place(mount.point, O_PATH);
    if (!place.is_open()) continue;
    const auto reached = mount_number(*place);
    mount.hidden = reached && *reached != mount.number;
  }
  return all;
}

std::vector<SwapInUse> LinuxKernel::swaps() {
  return parse_swaps(read_text("/proc/swaps", 1U << 20).value_or(""));
}

std::uint64_t LinuxKernel::memory_available() {
  std::istringstream lines(read_text("/proc/meminfo", 1U << 16).value_or(""));
  for (std::string line; std::getline(lines, line);)
    if (line.starts_with("MemAvailable:")) {
      const std::size_t digit = line.find_first_of("0123456789");
      return digit == std::string::npos ? 0 : number_in(line.substr(digit)) * 1024;
    }
  return 0;
}

std::optional<std::string> LinuxKernel::read_text(const std::string& path, std::uint64_t limit) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  std::string text(limit, '\0');
  file.read(text.data(), static_cast<std::streamsize>(limit));
  text.resize(static_cast<std::size_t>(file.gcount()));
  return text;
}

std::optional<DeviceNumber> LinuxKernel::device_at(const std::string& path) {
  struct stat facts {};
  if (::stat(path.c_str(), &facts) != 0 || !S_ISBLK(facts.st_mode)) return std::nullopt;
  return DeviceNumber{::gnu_dev_major(facts.st_rdev), ::gnu_dev_minor(facts.st_rdev)};
}

bool may(Right right) {
  std::istringstream lines(LinuxKernel().read_text("/proc/self/status", 1U << 16).value_or(""));
  for (std::string line; std::getline(lines, line);)
    if (line.starts_with("CapEff:"))
      return (std::stoull(line.substr(7), nullptr, 16) >> static_cast<unsigned>(right) & 1) != 0;
  return true;
}

std::string LinuxKernel::lacks_rights() {
  if (::geteuid() != 0) return "this user is not root";
  return may(Right::administer) ? "" : "this process may not administer the system";
}

}  // namespace jh::live
