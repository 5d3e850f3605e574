#include "support/memory_kernel.h"

#include "core/base/errors.h"
#include "core/guest/guest.h"
#include "core/live/running_system.h"
#include "core/lvm/mapper_name.h"
#include "support/test.h"

namespace jh::test {

using live::DeviceNumber;
using live::KernelDisk;
using live::KernelPartition;
using live::MapLine;
using live::MappedDevice;

// Bytes of a device, put together from pieces of disks.
class MemoryKernel::View final : public Store {
 public:
  struct Extent {
    MemoryStore* disk = nullptr;
    std::uint64_t at = 0;
    std::uint64_t size = 0;
  };
  View(MemoryKernel& kernel, std::string path, std::vector<Extent> pieces, bool to_change)
      : kernel_(kernel),
        path_(std::move(path)),
        pieces_(std::move(pieces)),
        to_change_(to_change) {}

  std::uint64_t size() const override {
    std::uint64_t sum = 0;
    for (const Extent& piece : pieces_) sum += piece.size;
    return sum;
  }
  void read(std::uint64_t offset, ByteSpan out) override {
    each(offset, out.size(),
         [&](const Extent& piece, std::uint64_t at, std::size_t done, std::size_t length) {
           piece.disk->read(at, out.subspan(done, length));
         });
  }
  void write(std::uint64_t offset, ConstByteSpan data) override {
    if (!to_change_) throw Error(Status::internal, "written to what was opened to be read", {}, {});
    kernel_.change(fmt::format("write {} bytes at {} of {}", data.size(), offset, path_), [&] {
      each(offset, data.size(),
           [&](const Extent& piece, std::uint64_t at, std::size_t done, std::size_t length) {
             piece.disk->write(at, data.subspan(done, length));
           });
    });
  }
  Range map(std::uint64_t offset, std::uint64_t length) override { return {offset, length, false}; }
  void discard(std::uint64_t offset, std::uint64_t length) override {
    const Buffer zeros(length);
    write(offset, zeros);
  }
  void flush() override {}
  void resize(std::uint64_t) override { ensure(false, "a device keeps its size"); }
  bool has_fixed_size() const override { return true; }
  std::string name() const override { return path_; }

 private:
  template <class Work>
  void each(std::uint64_t offset, std::size_t length, Work work) {
    std::uint64_t begin = 0;
    std::size_t done = 0;
    for (const Extent& piece : pieces_) {
      if (done < length && offset + done < begin + piece.size) {
        const std::uint64_t inside = offset + done - begin;
        const auto part =
            static_cast<std::size_t>(std::min<std::uint64_t>(length - done, piece.size - inside));
        work(piece, piece.at + inside, done, part);
        done += part;
      }
      begin += piece.size;
    }
    if (done != length) throw Error(Status::io, "behind the device's end", path_, {});
  }

  MemoryKernel& kernel_;
  std::string path_;
  std::vector<Extent> pieces_;
  bool to_change_;
};

// Without what was told, and what is to go wrong.
MemoryKernel& MemoryKernel::operator=(const MemoryKernel& other) {
  trouble = {};
  calls = 0;
  told.clear();
  locks.clear();
  rights_lacking = other.rights_lacking;
  memory = other.memory;
  missing = other.missing;
  held_by_others = other.held_by_others;
  unreadable = other.unreadable;
  frozen = other.frozen;
  disks_ = other.disks_;
  mapped_ = other.mapped_;
  maps_ = other.maps_;
  mounts_ = other.mounts_;
  sizes_ = other.sizes_;
  swaps_ = other.swaps_;
  files_ = other.files_;
  bytes_.clear();
  for (const auto& [name, bytes] : other.bytes_) bytes_.emplace(name, MemoryStore(bytes, name));
  return *this;
}

void MemoryKernel::add_disk(const std::string& name, const MemoryStore& bytes,
                            std::uint32_t sector_size) {
  KernelDisk disk;
  disk.name = name;
  disk.path = "/dev/" + name;
  disk.device = {250, static_cast<unsigned>(disks_.size()) * 16};
  disk.size = bytes.size();
  disk.sector_size = sector_size;
  disk.identity = "moor-" + name;
  disks_.push_back(disk);
  bytes_.emplace(name, MemoryStore(bytes, name));
  boot();
}

void MemoryKernel::boot() {
  std::vector<Guest::Image> images;
  for (KernelDisk& disk : disks_)
    images.push_back({disk.path, &bytes_.at(disk.name), false, nullptr, disk.sector_size});
  const Guest guest(images);
  for (std::size_t i = 0; i < disks_.size(); ++i) {
    KernelDisk& disk = disks_[i];
    disk.partitions.clear();
    for (const Layer& place : guest.disks()[i].layers) {
      if (!place.partition || place.partition->role == PartitionRole::extended) continue;
      KernelPartition partition;
      partition.number = place.partition->number;
      partition.path = disk.path + std::to_string(partition.number);
      partition.device = {disk.device.major, disk.device.minor + partition.number};
      partition.start = place.offset.value();
      partition.size = place.size.value();
      disk.partitions.push_back(partition);
    }
  }
  mapped_.clear();
  maps_.clear();
  for (const VolumeGroup& group : guest.groups()) {
    std::vector<DeviceNumber> devices;
    for (const Layer* place : group.devices) {
      const DeviceNumber disk = disks_[place->disk].device;
      devices.push_back(
          {disk.major, disk.minor + (place->partition ? place->partition->number : 0)});
    }
    for (const lvm::Volume& volume : group.open.group.volumes) {
      if (!volume.plain()) continue;
      MappedDevice device;
      device.name = lvm::mapper_name(group.open.group.name, volume.name);
      device.uuid = "LVM-" + group.open.group.id + volume.id;
      device.path = fmt::format("/dev/dm-{}", mapped_.size());
      device.device = {252, static_cast<unsigned>(mapped_.size())};
      maps_[device.name] = live::map_for(group.open.group, volume, devices);
      device.size = (maps_[device.name].back().start + maps_[device.name].back().length) * 512;
      mapped_.push_back(device);
    }
  }
}

live::KernelDisk& MemoryKernel::disk_named(const std::string& name) {
  for (KernelDisk& disk : disks_)
    if (disk.name == name) return disk;
  throw std::logic_error("no disk " + name);
}

void MemoryKernel::resize_disk(const std::string& name, std::uint64_t size) {
  disk_named(name).size = size;
  bytes_.at(name).resize(size);
}

void MemoryKernel::mount(const std::string& node, const std::string& point,
                         const std::string& kind) {
  const DeviceNumber device = device_at(node).value();
  const auto store = open(node, false);
  const Content content = recognise_content(*store);
  mounts_.push_back({device, point, kind, node, false, mounts_.size() + 1, false});
  sizes_[point] = {content.size.value().value(),
                   content.used.value_or(Bytes(0)).value(),
                   content.filesystem() ? content.filesystem()->unit().value() : 4096,
                   {}};
}

void MemoryKernel::use_swap(const std::string& node, std::uint64_t used, int priority) {
  swaps_.push_back({node, device_size(device_at(node).value()), used, priority});
}

std::optional<std::string> MemoryKernel::read_text(const std::string& path, std::uint64_t limit) {
  const auto found = files_.find(path);
  if (found == files_.end()) return std::nullopt;
  return found->second.substr(0, limit);
}

std::optional<DeviceNumber> MemoryKernel::device_at(const std::string& path) {
  if (missing.contains(path)) return std::nullopt;
  for (const KernelDisk& disk : disks_) {
    if (disk.path == path) return disk.device;
    for (const KernelPartition& partition : disk.partitions)
      if (partition.path == path) return partition.device;
  }
  for (const MappedDevice& device : mapped_)
    if (device.path == path || "/dev/mapper/" + device.name == path) return device.device;
  return std::nullopt;
}

std::string MemoryKernel::node_of(const DeviceNumber& device) const {
  for (const KernelDisk& disk : disks_) {
    if (disk.device == device) return disk.path;
    for (const KernelPartition& partition : disk.partitions)
      if (partition.device == device) return partition.path;
  }
  throw std::logic_error("no device " + device.text());
}

std::uint64_t MemoryKernel::device_size(const DeviceNumber& device) const {
  for (const KernelDisk& disk : disks_) {
    if (disk.device == device) return disk.size;
    for (const KernelPartition& partition : disk.partitions)
      if (partition.device == device) return partition.size;
  }
  for (const MappedDevice& mapped : mapped_)
    if (mapped.device == device) return mapped.size;
  throw std::logic_error("no device " + device.text());
}

std::unique_ptr<live::Kernel::Lock> MemoryKernel::claim(const live::KernelDisk& disk) {
  if (held_by_others.contains(disk.path)) refuse("the disk is in use", disk.path, {});
  return std::make_unique<Lock>();
}

std::unique_ptr<Store> MemoryKernel::open(const std::string& path, bool to_change) {
  const auto device = device_at(path);
  if (!device) io_failed("it cannot be opened: no such device", path, {});
  if (unreadable.contains(path)) io_failed("it cannot be read: Input/output error", path, {});
  std::vector<View::Extent> pieces;
  for (const KernelDisk& disk : disks_) {
    MemoryStore& bytes = bytes_.at(disk.name);
    if (disk.device == *device) pieces.push_back({&bytes, 0, disk.size});
    for (const KernelPartition& partition : disk.partitions)
      if (partition.device == *device) pieces.push_back({&bytes, partition.start, partition.size});
  }
  for (const MappedDevice& mapped : mapped_) {
    if (mapped.device != *device) continue;
    for (const MapLine& line : maps_.at(mapped.name)) {
      if (line.kind != "linear") continue;  // striped ones are not opened by any test
      std::istringstream words(line.values);
      std::string number;
      std::uint64_t start = 0;
      words >> number >> start;
      for (KernelDisk& disk : disks_) {
        if (disk.device.text() == number)
          pieces.push_back({&bytes_.at(disk.name), start * 512, line.length * 512});
        for (const KernelPartition& partition : disk.partitions)
          if (partition.device.text() == number)
            pieces.push_back(
                {&bytes_.at(disk.name), partition.start + start * 512, line.length * 512});
      }
    }
  }
  return std::make_unique<View>(*this, path, std::move(pieces), to_change);
}

void MemoryKernel::change(const std::string& what, const std::function<void()>& work) {
  ++calls;
  if (calls == trouble.dies_before) throw Died{};
  if (calls == trouble.fails) io_failed("made to fail", what, "try again");
  told.push_back(what);
  if (calls != trouble.lies) work();
  if (calls == trouble.dies_after) throw Died{};
}

void MemoryKernel::rescan(const KernelDisk& disk) {
  const auto known = enlarged_unseen.find(disk.name);
  if (known != enlarged_unseen.end()) resize_disk(disk.name, known->second);
}

void MemoryKernel::lengthen_partition(const KernelDisk& disk, std::uint32_t number,
                                      std::uint64_t start, std::uint64_t size) {
  change(fmt::format("partition {} of {}: {}", number, disk.name, size), [&] {
    if (start + size > disk_named(disk.name).size)
      io_failed("behind the disk's end", disk.path, {});
    for (KernelPartition& partition : disk_named(disk.name).partitions)
      if (partition.number == number) {
        if (partition.start != start || size < partition.size)
          io_failed("in use", partition.path, {});
        partition.size = size;
        return;
      }
    io_failed("no such partition", disk.path, {});
  });
}

void MemoryKernel::add_partition(const KernelDisk& disk, std::uint32_t number, std::uint64_t start,
                                 std::uint64_t size) {
  change(fmt::format("new partition {} of {}: {}", number, disk.name, size), [&] {
    KernelDisk& own = disk_named(disk.name);
    for (const KernelPartition& other : own.partitions)
      if (other.number == number ||
          (start < other.start + other.size && other.start < start + size))
        io_failed("in use", other.path, {});
    own.partitions.push_back({number,
                              own.path + std::to_string(number),
                              {own.device.major, own.device.minor + number},
                              start,
                              size,
                              {}});
  });
}

void MemoryKernel::replace_map(const MappedDevice& device, const std::vector<MapLine>& table) {
  change("map of " + device.name, [&] {
    for (MappedDevice& own : mapped_)
      if (own.name == device.name) {
        maps_[device.name] = table;
        own.size = (table.back().start + table.back().length) * 512;
        return;
      }
    io_failed("no such device", device.name, {});
  });
}

void MemoryKernel::grow(const live::Mount& mount, std::uint64_t size) {
  change(fmt::format("grow {} to {}", mount.point, size), [&] {
    if (size > device_size(mount.device)) io_failed("the device is smaller", mount.point, {});
    sizes_.at(mount.point).size = size;
  });
}

void MemoryKernel::swap_off(const std::string& path) {
  change("swap off " + path, [&] {
    std::erase_if(swaps_, [&](const live::SwapInUse& swap) { return swap.path == path; });
  });
}

void MemoryKernel::swap_on(const std::string& path, int priority) {
  change("swap on " + path, [&] { use_swap(path, 0, priority); });
}

std::unique_ptr<live::Kernel::Lock> MemoryKernel::lock_group(const std::string& group) {
  struct Held final : Lock {
    Held(MemoryKernel& owner, std::string lock) : kernel(owner), name(std::move(lock)) {
      ensure(kernel.held.insert(name).second, "a lock is taken once");
    }
    ~Held() override { kernel.held.erase(name); }
    MemoryKernel& kernel;
    std::string name;
  };
  if (at_lock) at_lock(group);
  locks.push_back(group);
  return std::make_unique<Held>(*this, group);
}

}  // namespace jh::test
