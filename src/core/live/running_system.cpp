#include "core/live/running_system.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "core/live/mounted_kinds.h"
#include "core/live/running_filesystem.h"
#include "core/lvm/mapper_name.h"

namespace jh::live {

void ask_for_sizes(Kernel& kernel) {
  for (const KernelDisk& disk : kernel.disks())
    if (disk.can_rescan) kernel.rescan(disk);
}

std::vector<MapLine> map_for(const lvm::Group& group, const lvm::Volume& volume,
                             const std::vector<DeviceNumber>& devices) {
  constexpr std::uint64_t sector = 512;
  std::vector<MapLine> table;
  const std::uint64_t extent = group.extent_size / sector;
  for (const lvm::Segment& segment : volume.segments) {
    MapLine line;
    line.start = segment.start * extent;
    line.length = segment.count * extent;
    const bool striped = segment.stripes.size() > 1;
    line.kind = striped ? "striped" : "linear";
    if (striped)
      line.values = fmt::format("{} {}", segment.stripes.size(), segment.stripe_size / sector);
    for (const lvm::Stripe& stripe : segment.stripes)
      line.values +=
          fmt::format("{}{} {}", line.values.empty() ? "" : " ", devices[stripe.pv].text(),
                      group.pvs[stripe.pv].data_start / sector + stripe.extent * extent);
    table.push_back(std::move(line));
  }
  return table;
}

bool begins_with(const std::vector<MapLine>& table, const std::vector<MapLine>& present) {
  if (present.empty() || present.size() > table.size()) return false;
  for (std::size_t i = 0; i < present.size(); ++i) {
    const MapLine& now = present[i];
    const MapLine& then = table[i];
    const bool last = i + 1 == present.size();
    if (now.start != then.start || now.kind != then.kind || now.values != then.values ||
        (last ? now.length > then.length : now.length != then.length))
      return false;
  }
  return true;
}

RunningSystem::RunningSystem(KernelFacts& kernel, const std::vector<std::string>& named,
                             const std::vector<Added>& added)
    : kernel_(kernel), mapped_(kernel.mapped()), mounts_(kernel.mounts()), swaps_(kernel.swaps()) {
  find_disks(named, added);
  open_disks();
}

RunningSystem::~RunningSystem() = default;

void RunningSystem::open_disks() {
  std::vector<Guest::Image> images;
  for (std::size_t i = 0; i < disks_.size(); ++i) {
    const KernelDisk& disk = disks_[i];
    const bool blank = i >= old_disks_;
    if (blank)
      stores_.push_back(std::make_unique<MemoryStore>(disk.size, disk.path));
    else
      stores_.push_back(kernel_.open_to_read(disk.path));
    images.push_back({disk.path, stores_.back().get(), blank, nullptr, disk.sector_size});
  }
  guest_ = std::make_unique<Guest>(images, 0, this);
}

void RunningSystem::find_disks(const std::vector<std::string>& named,
                               const std::vector<Added>& added) {
  const std::vector<KernelDisk> all = kernel_.disks();
  const auto find = [&](const std::string& path) -> const KernelDisk& {
    const auto device = kernel_.device_at(path);
    for (const KernelDisk& disk : all)
      if (device && disk.device == *device) return disk;
    refuse("this system has no such disk", path, "name whole disks, or none: then all are meant");
  };
  std::vector<std::pair<KernelDisk, std::optional<NewDisk>>> fresh;
  for (const Added& disk : added) fresh.emplace_back(find(disk.path), disk.begun);
  const auto is_fresh = [&](const KernelDisk& disk) {
    return std::any_of(fresh.begin(), fresh.end(),
                       [&](const auto& other) { return other.first.device == disk.device; });
  };
  for (const std::string& path : named) disks_.push_back(find(path));
  if (named.empty())
    for (const KernelDisk& disk : all)
      if (!is_fresh(disk) && !disk.is_file) disks_.push_back(disk);
  for (const KernelDisk& disk : all)
    if (disk.trouble.empty() && kernel_.device_at(disk.path) != disk.device)
      refuse("the kernel has a disk whose device is not here", disk.path,
             "in a container: give it the devices, or run this on the machine itself");
  // One bad disk does not stop the others; whoever names it hears why.
  std::erase_if(disks_, [&](const KernelDisk& disk) {
    const std::string why = trouble_of(disk);
    if (why.empty()) return false;
    const Error trouble(Status::refused, "the disk is left out: " + why, disk.path,
                        "look into the system's log");
    if (!named.empty()) throw trouble;
    left_out_.push_back(trouble);
    return true;
  });
  if (disks_.empty() && !left_out_.empty()) {
    const std::string lacks = kernel_.lacks_rights();
    refuse("none of this system's disks can be looked at: " +
               (lacks.empty() ? std::string(left_out_.front().what()) : lacks),
           left_out_.front().where(),
           lacks.empty() ? "look into the system's log" : "run it as root");
  }
  if (disks_.empty())
    refuse("this system has no disks of its own", {},
           "in a container: run this on the machine itself");
  // One that an earlier run has got into the group is a disk like the others.
  std::erase_if(fresh, [&](const auto& each) {
    const bool known = each.second.has_value() && is_in_a_group(each.first);
    if (known) disks_.push_back(each.first);
    return known;
  });
  old_disks_ = disks_.size();
  for (const auto& [disk, begun] : fresh) {
    check_added(disk, begun);
    disks_.push_back(disk);
  }
}

// Why it cannot be looked at; empty: it can.
std::string RunningSystem::trouble_of(const KernelDisk& disk) const {
  if (!disk.trouble.empty()) return disk.trouble;
  try {
    const auto store = kernel_.open_to_read(disk.path);
    constexpr std::uint64_t look = 1U << 20;
    const auto length = static_cast<std::size_t>(std::min(look, store->size()));
    read_buffer(*store, 0, length);
    read_buffer(*store, store->size() - length, length);
  } catch (const Error& error) {
    return error.what();
  }
  return {};
}

// Or is named by one: the metadata on the other disks may know of it before its own do.
bool RunningSystem::is_in_a_group(const KernelDisk& disk) {
  disks_.push_back(disk);
  std::vector<std::unique_ptr<Store>> stores;
  std::vector<Guest::Image> images;
  for (const KernelDisk& each : disks_) {
    stores.push_back(kernel_.open_to_read(each.path));
    images.push_back({each.path, stores.back().get(), false, nullptr, each.sector_size});
  }
  bool found = false;
  const Guest guest(images, 0, this);
  for (const VolumeGroup& group : guest.groups())
    for (const Layer* device : group.devices)
      found = found || (device != nullptr && device->disk + 1 == images.size());
  disks_.pop_back();
  return found;
}

// Nothing of what a new disk held may be lost: every byte of it is looked at.
void RunningSystem::check_added(const KernelDisk& disk, const std::optional<NewDisk>& begun) const {
  const char* next = "only an empty disk is taken; if nothing on it is needed, clear it first";
  if (!disk.trouble.empty()) refuse("the new disk cannot be used: " + disk.trouble, disk.path);
  if (!disk.holders.empty())
    refuse("the new disk is in use by " + disk.holders.front(), disk.path, next);
  if (disk.read_only) refuse("the new disk is read-only", disk.path, "let it be written to first");
  for (const Mount& mount : mounts_)
    if (mount.device == disk.device)
      refuse("the new disk is mounted at " + mount.point, disk.path, next);
  if (swap_on(disk.device) != nullptr) refuse("the new disk is in use as swap", disk.path, next);
  for (const KernelPartition& partition : disk.partitions) {
    if (!begun) refuse("the new disk has partitions", disk.path, next);
    if (!partition.holders.empty() || swap_on(partition.device) != nullptr ||
        std::any_of(mounts_.begin(), mounts_.end(),
                    [&](const Mount& mount) { return mount.device == partition.device; }))
      refuse("the new disk is in use", partition.path, next);
  }
  const auto store = kernel_.open_to_read(disk.path);
  if (begun) {
    if (!is_blank_or_ours(*store, *begun))
      refuse("the new disk is not as an earlier run has left it: somebody has written to it since",
             disk.path, next);
    return;
  }
  if (!range_is_zero(*store, 0, store->size()))
    refuse("the new disk is not empty", disk.path, next);
}

const KernelPartition* RunningSystem::partition(std::size_t disk, std::uint32_t number) const {
  for (const KernelPartition& partition : disks_[disk].partitions)
    if (partition.number == number) return &partition;
  return nullptr;
}

const MappedDevice* RunningSystem::mapped(const std::string& group,
                                          const std::string& volume) const {
  const std::string name = lvm::mapper_name(group, volume);
  for (const MappedDevice& device : mapped_)
    if (device.name == name && device.uuid.starts_with("LVM-")) return &device;
  return nullptr;
}

const MappedDevice* RunningSystem::mapped(const VolumeGroup& group,
                                          const lvm::Volume& volume) const {
  const MappedDevice* found = mapped(group.open.group.name, volume.name);
  // Another group of the same name could be active.
  if (found != nullptr && found->uuid != "LVM-" + group.open.group.id + volume.id) return nullptr;
  return found;
}

std::optional<DeviceNumber> RunningSystem::device_of(const Layer& layer) const {
  const std::string& volume = layer.id.volume;
  if (layer.volume) {
    const std::size_t slash = volume.find('/');
    const MappedDevice* device = mapped(volume.substr(0, slash), volume.substr(slash + 1));
    return device == nullptr ? std::nullopt : std::optional(device->device);
  }
  if (!layer.partition) return disks_[layer.disk].device;
  const KernelPartition* known = partition(layer.disk, layer.partition->number);
  return known == nullptr ? std::nullopt : std::optional(known->device);
}

std::string RunningSystem::path_of(const Layer& layer) const {
  if (layer.volume) {
    const MappedDevice* device = mapped(guest_->group_of(layer), guest_->volume_of(layer));
    return device == nullptr ? "" : device->path;
  }
  if (!layer.partition) return disks_[layer.disk].path;
  const KernelPartition* known = partition(layer.disk, layer.partition->number);
  return known == nullptr ? "" : known->path;
}

std::vector<const Mount*> RunningSystem::mounts_of(const DeviceNumber& device) const {
  std::vector<const Mount*> found;
  for (const Mount& mount : mounts_) {
    // Where a filesystem has a number of its own its source tells.
    const bool by_source = mount.device.major == 0 && mount.source.starts_with("/dev/") &&
                           kernel_.device_at(mount.source) == device;
    if (mount.device == device || by_source) found.push_back(&mount);
  }
  // One that can be reached, and written to, first: another may be a second, read-only one of the
  // same.
  std::stable_sort(found.begin(), found.end(), [](const Mount* a, const Mount* b) {
    return std::pair(a->hidden, a->read_only) < std::pair(b->hidden, b->read_only);
  });
  return found;
}

const Mount* RunningSystem::mount_of(const Layer& layer) const {
  const auto device = device_of(layer);
  if (!device) return nullptr;
  const auto found = mounts_of(*device);
  return found.empty() ? nullptr : found.front();
}

// A device of the mapper whose input and output wait; null: it is none.
const MappedDevice* RunningSystem::suspended(const DeviceNumber& device) const {
  for (const MappedDevice& each : mapped_)
    if (each.device == device && each.suspended) return &each;
  return nullptr;
}

const SwapInUse* RunningSystem::swap_of(const Layer& layer) const {
  const auto device = device_of(layer);
  return device ? swap_on(*device) : nullptr;
}

const SwapInUse* RunningSystem::swap_on(const DeviceNumber& device) const {
  for (const SwapInUse& swap : swaps_)
    if (kernel_.device_at(swap.path) == device) return &swap;
  return nullptr;
}

std::optional<std::vector<DeviceNumber>> RunningSystem::devices_of(const VolumeGroup& group) const {
  std::vector<DeviceNumber> numbers;
  for (const Layer* layer : group.devices) {
    const auto number = layer == nullptr ? std::nullopt : device_of(*layer);
    if (!number) return std::nullopt;
    numbers.push_back(*number);
  }
  return numbers;
}

std::optional<Running::InUse> RunningSystem::look(const Layer& layer, Store& window) const {
  const auto device = device_of(layer);
  if (!device) return std::nullopt;
  const std::vector<const Mount*> mounts = mounts_of(*device);
  InUse found;
  if (swap_on(*device) != nullptr) {
    found.content = recognise_content(window);
    found.mount_points = {"swap"};
    return found;
  }
  if (mounts.empty()) return std::nullopt;
  Content& content = found.content;
  content.kind = ContentKind::filesystem;
  const FilesystemKind* kind = kind_in(window);
  if (kind != nullptr && kind->while_mounted != nullptr) kind->while_mounted(window, content);
  content.blockers.clear();  // the driver says what it can
  const Mount& mount = *mounts.front();
  content.name = shown_kind(mount.kind);
  content.state = mount.read_only ? "mounted, read-only" : "mounted";
  auto& inside = content.inside.emplace<FilesystemContent>();
  inside.kind = kind;
  for (const Mount* each : mounts)
    if (std::find(found.mount_points.begin(), found.mount_points.end(), each->point) ==
        found.mount_points.end())
      found.mount_points.push_back(each->point);
  const MappedDevice* stopped = suspended(*device);
  if (mount.hidden || stopped != nullptr) {
    // Its driver cannot be reached, or would not answer.
    content.state = mount.hidden ? "mounted, under another" : "suspended";
    content.blockers.push_back(
        mount.hidden
            ? Error(Status::refused,
                    "another filesystem is mounted over it at " + mount.point +
                        ", so that its driver cannot be asked",
                    mount.source, "mount it at another place too, or unmount what lies over it")
            : Error(Status::refused, "a volume is suspended: nothing on it answers", stopped->name,
                    "let the system's own tools resume it first"));
    return found;
  }
  const MountedSize size = kernel_.size_of(mount);
  content.size = Bytes(size.size);
  content.used = Bytes(size.used);
  // One that we could only leave alone keeps its place; the plan says what is left to do.
  if (kind != nullptr && kind->resizable)
    inside.opened = std::make_unique<RunningFilesystem>(kernel_, mount, size);
  return found;
}

}  // namespace jh::live
