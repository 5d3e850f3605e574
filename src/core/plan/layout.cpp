#include "core/plan/layout.h"

#include <algorithm>

namespace jh {
namespace {

// A physical volume that is on none of the disks.
constexpr std::size_t missing = SIZE_MAX;

// One overload for each kind of step: a new kind does not compile before it is said here what it
// means.
class Applied {
 public:
  Applied(const Step& step, Layout& layout) : id_(step.layer), layout_(layout) {}

  // On disks.
  SizeChange operator()(const step::RecoverContainer&) { return same(disk()); }
  SizeChange operator()(const step::GrowContainer& work) { return set(disk(), work.size); }
  SizeChange operator()(const step::ShrinkContainer& work) { return set(disk(), work.size); }
  SizeChange operator()(const step::CreateDisk& work) {
    layout_.tables[id_] = {true, work.sector_size, {}, {}};
    return set(disk(), work.size);
  }

  // On tables.
  SizeChange operator()(const step::RepairTable&) {
    const Layout::TablePlace& table = layout_.tables.at(id_);
    return same(to_bytes(table.known_end, table.sector_size));
  }
  SizeChange operator()(const step::MoveSpare& work) {
    Layout::TablePlace& table = layout_.tables.at(id_);
    const Bytes from = to_bytes(table.known_end, table.sector_size);
    table.known_end = work.known_end;
    return {from, to_bytes(work.known_end, table.sector_size)};
  }
  SizeChange operator()(const step::GrowPartition& work) {
    return put(partition().first, work.end);
  }
  SizeChange operator()(const step::ShrinkPartition& work) {
    return put(partition().first, work.end);
  }
  SizeChange operator()(const step::MovePartition& work) { return put(work.first, work.end); }
  // The logical ones have moved, each by a step of its own.
  SizeChange operator()(const step::MoveExtended& work) { return put(work.first, work.end); }
  SizeChange operator()(const step::CreatePartition& work) {
    const NewPartition& made = work.partition;
    // The extended one takes in what is made in it.
    if (made.role == PartitionRole::logical)
      for (auto& [number, other] : table().partitions)
        if (other.role == PartitionRole::extended) other.end = std::max(other.end, made.end);
    table().partitions[made.number] = {made.first, made.end, made.role, true};
    return {Bytes(0), bytes(made.end - made.first)};
  }

  // In groups.
  SizeChange operator()(const step::GrowPhysicalVolume& work) { return resize(work.extents); }
  SizeChange operator()(const step::ShrinkDevice& work) { return resize(work.extents); }
  SizeChange operator()(const step::AddDevice& work) {
    Layout::GroupPlace& group = layout_.groups.at(work.group);
    group.devices.push_back({id_, work.extents});
    return {Bytes(0), group.bytes(work.extents)};
  }
  SizeChange operator()(const step::RemoveDevice&) {
    auto [group, device] = device_here();
    const Bytes from = group->bytes(device->extents);
    group->devices.erase(device);
    return {from, Bytes(0)};
  }
  SizeChange operator()(const step::MoveExtents&) {
    auto [group, device] = device_here();
    return same(group->bytes(device->extents));
  }
  SizeChange operator()(const step::GrowVolume& work) {
    return resize_volume([&](std::uint64_t extents) { return extents + work.extents; });
  }
  SizeChange operator()(const step::ShrinkVolume& work) {
    return resize_volume([&](std::uint64_t) { return work.extents; });
  }
  SizeChange operator()(const step::CommitGroup& work) {
    Layout::GroupPlace& group = layout_.groups.at(work.group);
    const Bytes from = group.bytes(group.committed);
    group.committed = group.extents();
    ++group.sequence;
    return {from, group.bytes(group.committed)};
  }

  // Inside a place.
  SizeChange operator()(const step::ReplayJournal&) { return same(layout_.contents[id_]); }
  SizeChange operator()(const step::PrepareContent&) { return same(layout_.contents[id_]); }
  SizeChange operator()(const step::GrowContent& work) {
    return set(layout_.contents[id_], work.size);
  }
  SizeChange operator()(const step::ShrinkContent& work) {
    return set(layout_.contents[id_], work.size);
  }

  // In a running system.
  SizeChange operator()(const step::TellPartition&) {
    return set(layout_.kernel[id_], layout_.size_of_partition(id_));
  }
  SizeChange operator()(const step::LoadVolume&) {
    const Layout::GroupPlace* group = layout_.group_of_volume(id_.volume);
    ensure(group != nullptr, "a step's volume is in the layout");
    return set(layout_.kernel[id_], group->bytes(group->volumes.at(id_.volume)));
  }

 private:
  static SizeChange same(Bytes size) { return {size, size}; }
  static SizeChange set(Bytes& size, Bytes to) {
    const SizeChange change{size, to};
    size = to;
    return change;
  }

  Bytes& disk() { return layout_.disks.at(id_.disk); }
  // That the step's partition is in.
  Layout::TablePlace& table() { return layout_.tables.at(id_.outer()); }
  Layout::PartitionPlace& partition() { return table().partitions.at(id_.number()); }
  Bytes bytes(Sectors count) { return to_bytes(count, table().sector_size); }
  SizeChange put(Sectors first, Sectors end) {
    Layout::PartitionPlace& place = partition();
    const Bytes from = bytes(place.end - place.first);
    place.first = first;
    place.end = end;
    return {from, bytes(end - first)};
  }

  std::pair<Layout::GroupPlace*, std::vector<Layout::Device>::iterator> device_here() {
    for (auto& [name, group] : layout_.groups)
      for (auto device = group.devices.begin(); device != group.devices.end(); ++device)
        if (device->layer == id_) return {&group, device};
    throw Error(Status::internal, "a step's physical volume is in the layout", {},
                "please report this as a bug");
  }
  SizeChange resize(std::uint64_t extents) {
    auto [group, device] = device_here();
    const Bytes from = group->bytes(device->extents);
    device->extents = extents;
    return {from, group->bytes(extents)};
  }
  template <class NewExtents>
  SizeChange resize_volume(NewExtents new_extents) {
    for (auto& [name, group] : layout_.groups) {
      const auto volume = group.volumes.find(id_.volume);
      if (volume == group.volumes.end()) continue;
      const Bytes from = group.bytes(volume->second);
      volume->second = new_extents(volume->second);
      return {from, group.bytes(volume->second)};
    }
    throw Error(Status::internal, "a step's volume is in the layout", {},
                "please report this as a bug");
  }

  const LayerId& id_;
  Layout& layout_;
};

}  // namespace

std::uint64_t Layout::GroupPlace::extents() const {
  std::uint64_t all = 0;
  for (const Device& device : devices) all += device.extents;
  return all;
}

const Layout::TablePlace* Layout::table_on(const LayerId& layer) const {
  const auto found = tables.find(layer);
  return found == tables.end() ? nullptr : &found->second;
}

Bytes Layout::size_of_partition(const LayerId& layer) const {
  const TablePlace& table = tables.at(layer.outer());
  const PartitionPlace& place = table.partitions.at(layer.number());
  return to_bytes(place.end - place.first, table.sector_size);
}

const Layout::GroupPlace* Layout::group_of_volume(const std::string& volume) const {
  for (const auto& [name, group] : groups)
    if (group.volumes.contains(volume)) return &group;
  return nullptr;
}

namespace {

Layout::TablePlace place_of(const PartitionTable& table) {
  const TableFacts& facts = table.facts();
  Layout::TablePlace place{false, facts.sector_size, facts.known_end, {}};
  for (const Partition& partition : facts.partitions)
    place.partitions[partition.number] = {partition.first, partition.end(), partition.role, false};
  return place;
}

}  // namespace

Layout layout_of(const Guest& guest) {
  Layout layout;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    layout.disks.push_back(disk.added ? Bytes(0) : disk.size());
    if (disk.table) layout.tables[LayerId(i)] = place_of(*disk.table);
  }
  for (const Layer* layer : guest.layers())
    if (layer->table) layout.tables[layer->id] = place_of(*layer->table);
  for (const VolumeGroup& group : guest.groups()) {
    const lvm::Group& facts = group.open.group;
    Layout::GroupPlace& place = layout.groups[facts.name];
    place.extent_size = facts.extent_size;
    place.sequence = facts.sequence;
    place.committed = facts.total_extents();
    for (std::size_t pv = 0; pv < facts.pvs.size(); ++pv)
      place.devices.push_back({pv < group.devices.size() && group.devices[pv] != nullptr
                                   ? group.devices[pv]->id
                                   : LayerId(missing),
                               facts.pvs[pv].extents});
    for (const lvm::Volume& volume : facts.volumes)
      place.volumes[facts.name + "/" + volume.name] = volume.extents;
  }
  for (const Layer* layer : guest.layers())
    if (layer->content.size) layout.contents[layer->id] = *layer->content.size;
  return layout;
}

SizeChange apply(const Step& step, Layout& layout) {
  return std::visit(Applied(step, layout), step.work);
}

}  // namespace jh
