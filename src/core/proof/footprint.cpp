#include "core/proof/footprint.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/lvm/format.h"
#include "core/proof/verdict.h"

namespace jh {
class Footprint::Inside {
 public:
  Inside(const Guest& guest, const Layer& layer, bool everything)
      : name_(guest.best_name(layer)), layer_(layer), everything_(everything) {}

  void check(std::uint64_t at, std::uint64_t length, const std::string& where) {
    if (everything_) {
      add_range(changed_, at, at + length);
      return;
    }
    const Content& content = layer_.content;
    if (!content.filesystem()) proof_failed("the content of " + name_ + " would change", where);
    for (const std::uint64_t end = at + length; at < end;) {
      const auto kept = content.on_disk()->first_kept(at, end - at);
      if (!kept) return;
      // What replaying its journal writes, if that comes first, is no matter of the growth.
      const std::uint64_t unit = content.filesystem()->unit().value();
      const std::uint64_t start = round_down(*kept, unit);
      const auto& at_rest = content.as_filesystem()->at_rest;
      if (!at_rest || !at_rest->is_changed(start, unit))
        proof_failed(fmt::format("byte {} of {}, which is in use, would change", *kept, name_),
                     where);
      at = start + unit;
    }
  }
  const Ranges& changed() const { return changed_; }

 private:
  std::string name_;
  const Layer& layer_;
  bool everything_;  // content has to move: all of it is compared instead
  Ranges changed_;
};

Footprint::Footprint(const Guest& before, const Guest& after, const Plan& plan)
    : before_(before), after_(after), plan_(plan) {
  for (const LayerId& where : plan.targets) {
    const Layer* layer = before.find(where);
    ensure(layer != nullptr, "a target of the plan is in the guest");
    targets_[layer] = std::make_unique<Inside>(before, *layer, plan.moves_content(where));
  }
  note_kept();
  note_places();
  note_reached();
}

namespace {

// What the partitions of a disk take, and its table.
void add_places(Ranges& places, const std::vector<Layer>& layers, const PartitionTable* table) {
  for (const Layer& layer : layers)
    if (layer.content.kind != ContentKind::logical_partitions)
      add_range(places, layer.offset.value(), layer.offset.value() + layer.size.value());
  if (table == nullptr) return;
  for (const auto& [start, end] : table->own_places()) add_range(places, start, end);
}

}  // namespace

void Footprint::note_places() {
  for (std::size_t i = 0; i < before_.disks().size(); ++i) {
    Ranges& places = places_[LayerId(i)];
    for (const Guest* guest : {&before_, &after_})
      add_places(places, guest->disks()[i].layers, guest->disks()[i].table.get());
  }
  for (const Guest* guest : {&before_, &after_})
    for (const Layer* layer : guest->layers())
      if (layer->table && before_.find(layer->id) != nullptr)
        add_places(places_[before_.find(layer->id)->id], layer->inner, layer->table.get());
}

void Footprint::note_kept() {
  for (const Step& step : plan_.steps) {
    std::optional<std::uint64_t> bytes;
    const Layer* layer = before_.find(step.layer);
    std::size_t pv = 0;
    if (step.is<step::MovePartition>()) {
      bytes = 0;
    } else if (step.is<step::ShrinkPartition>()) {
      bytes = step.to.value();
    } else if (const auto* volume = step.as<step::ShrinkVolume>()) {
      bytes = before_.group_of(*layer).bytes(volume->extents).value();
    } else if (const auto* device = step.as<step::ShrinkDevice>()) {
      const VolumeGroup& group = *before_.group_on(*layer, pv);
      bytes = group.bytes(device->extents).value() + group.open.group.pvs[pv].data_start;
    } else if (step.is<step::RemoveDevice>()) {
      bytes = before_.group_on(*layer, pv)->open.group.pvs[pv].data_start;
    }
    if (!bytes) continue;
    const auto [known, fresh] = kept_.try_emplace(layer, *bytes);
    if (!fresh) known->second = std::min(known->second, *bytes);
  }
}

std::uint64_t Footprint::kept_of(const Layer& layer) const {
  const auto found = kept_.find(&layer);
  return found == kept_.end() ? UINT64_MAX : found->second;
}

Footprint::~Footprint() = default;

const Ranges& Footprint::changed_in(const LayerId& where) const {
  const auto found = targets_.find(before_.find(where));
  ensure(found != targets_.end(), "this is a target");
  return found->second->changed();
}

void Footprint::check(std::size_t disk, std::uint64_t at, std::uint64_t length) {
  if (plan_.makes_table(disk)) return;
  check_partitioned(
      {LayerId(disk), before_.disks()[disk].layers, before_.disks()[disk].container->disk(),
       after_.disks()[disk].container->disk(), before_.disks()[disk].path},
      at, length);
}

// A disk, or what is kept in a layer as one.
void Footprint::check_partitioned(const Partitioned& disk, std::uint64_t at, std::uint64_t length) {
  check_outside(disk, at, length);
  for (const Layer& layer : disk.layers) {
    const std::uint64_t start = layer.offset.value();
    const std::uint64_t end = start + layer.size.value();
    if (at + length <= start || at >= end) continue;
    if (layer.content.kind == ContentKind::logical_partitions) continue;
    const std::uint64_t from = std::max(at, start);
    check_place(layer, from - start, std::min(at + length, end) - from);
  }
}

// What is said to differ is whole sectors; here single bytes count, for a table and a boot loader
// share one.
void Footprint::check_outside(const Partitioned& disk, std::uint64_t at, std::uint64_t length) {
  const auto must_be_same = [&](std::uint64_t start, std::uint64_t end) {
    constexpr std::uint64_t most = 1U << 20;
    end = std::min({end, disk.was.size(), disk.is.size()});
    while (start < end) {
      const std::uint64_t step = std::min(most, end - start);
      const Buffer was = read_buffer(disk.was, start, step);
      const Buffer now = read_buffer(disk.is, start, step);
      const auto differs = std::mismatch(was.begin(), was.end(), now.begin()).first;
      if (differs != was.end())
        proof_failed(fmt::format("byte {} of the disk, which is in no partition, would change",
                                 start + static_cast<std::uint64_t>(differs - was.begin())),
                     disk.where);
      start += step;
    }
  };
  const std::uint64_t end = at + length;
  for_each_inside(places_.at(disk.id), at, end, [&](std::uint64_t from, std::uint64_t to) {
    must_be_same(at, from);
    at = to;
  });
  must_be_same(at, end);
}

// Every layer that a step is on, or that a changed group stands on, and all that these lie in.
void Footprint::note_reached() {
  const auto note = [&](LayerId id) {
    for (; !id.is_disk(); id = id.outer()) {
      reached_.insert(id);
      if (id.partitions.empty()) return;
    }
  };
  for (const Step& step : plan_.steps) note(step.layer);
  for (const VolumeGroup& group : before_.groups())
    if (plan_.changes(group))
      for (const Layer* device : group.devices)
        if (device != nullptr) note(device->id);
}

// Whether the change may reach into a disk that is kept there.
bool Footprint::changes_inside(const Layer& layer) const {
  return layer.table != nullptr && reached_.contains(layer.id);
}

void Footprint::check_place(const Layer& layer, std::uint64_t at, std::uint64_t length) {
  const std::string& where = before_.disks()[layer.disk].path;
  const std::uint64_t kept = kept_of(layer);
  if (at >= kept) return;
  length = std::min(length, kept - at);
  std::size_t pv = 0;
  const VolumeGroup* group = before_.group_on(layer, pv);
  if (group != nullptr && plan_.changes(*group)) {
    check_device(*group, pv, at, length);
    return;
  }
  if (changes_inside(layer)) {
    const Layer* now = after_.find(layer.id);
    if (now == nullptr || !now->window || !layer.window)
      proof_failed("what is kept in it cannot be opened", where);
    check_partitioned({layer.id, layer.inner, *layer.window, *now->window, before_.name_of(layer)},
                      at, length);
    return;
  }
  const auto target = targets_.find(&layer);
  if (target == targets_.end())
    proof_failed(fmt::format("byte {} of {} would change", at, before_.name_of(layer)), where);
  target->second->check(at, length, where);
}

// Label and metadata areas are the group's own; nothing else in front of the extents is.
void Footprint::check_device_front(const VolumeGroup& group, std::size_t pv, std::uint64_t at,
                                   std::uint64_t length) {
  const lvm::Device& device = group.open.members[pv]->device;
  const auto within = [&](std::uint64_t start, std::uint64_t size) {
    return at >= start && at + length <= start + size;
  };
  if (within(0, lvm::label_sectors * lvm::sector)) return;
  for (const lvm::MetadataArea& area : device.areas)
    if (within(area.place.offset, area.place.size)) return;
  proof_failed(fmt::format("byte {} in front of the extents would change", at),
               before_.name_of(*group.devices[pv]));
}

// Free extents hold nothing.
void Footprint::check_device(const VolumeGroup& group, std::size_t pv, std::uint64_t at,
                             std::uint64_t length) {
  const lvm::Group& facts = group.open.group;
  const std::uint64_t data = facts.pvs[pv].data_start;
  while (length != 0 && at < data) {
    const std::uint64_t step = std::min({length, data - at, lvm::sector - at % lvm::sector});
    check_device_front(group, pv, at, step);
    at += step;
    length -= step;
  }
  if (length == 0) return;
  const std::uint64_t unit = facts.extent_size;
  const auto& holdings = facts.holdings(pv);
  auto held = std::upper_bound(
      holdings.begin(), holdings.end(), (at - data) / unit,
      [](std::uint64_t extent, const lvm::Holding& holding) { return extent < holding.first; });
  if (held != holdings.begin()) --held;
  for (; held != holdings.end(); ++held) {
    const std::uint64_t start = data + held->first * unit;
    const std::uint64_t end = start + held->count * unit;
    if (start >= at + length) return;
    if (end <= at) continue;
    const std::uint64_t from = std::max(at, start);
    check_held(group, *held, from - start, std::min(at + length, end) - from);
  }
}

void Footprint::check_held(const VolumeGroup& group, const lvm::Holding& held, std::uint64_t inside,
                           std::uint64_t length) {
  const lvm::Group& facts = group.open.group;
  const Layer& layer = group.volumes[held.volume];
  std::size_t pv = 0;
  const VolumeGroup* inner = before_.group_on(layer, pv);
  const bool carries = inner != nullptr && plan_.changes(*inner);
  if ((!carries && !targets_.contains(&layer) && !changes_inside(layer)) ||
      held.segment == SIZE_MAX)
    proof_failed(fmt::format("{} would change", before_.name_of(layer)),
                 before_.disks()[layer.disk].path);
  const lvm::Segment& segment = facts.volumes[held.volume].segments[held.segment];
  const std::uint64_t start = segment.start * facts.extent_size;
  const std::uint64_t width = segment.stripes.size();
  while (length != 0) {
    std::uint64_t at = start + inside;
    std::uint64_t step = length;
    if (width > 1) {
      const std::uint64_t chunk = segment.stripe_size;
      at = start + (inside / chunk * width + held.stripe) * chunk + inside % chunk;
      step = std::min(length, chunk - inside % chunk);
    }
    check_place(layer, at, step);
    inside += step;
    length -= step;
  }
}

}  // namespace jh
