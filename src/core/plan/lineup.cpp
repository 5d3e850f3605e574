#include "core/plan/lineup.h"

#include <algorithm>

namespace jh {
namespace {

bool is_logical(const Lineup::Lying& each) {
  return each.place->partition->role == PartitionRole::logical;
}

bool stays_where_it_is(const Place& place) {
  return place.content.kind == ContentKind::unknown ||
         place.content.kind == ContentKind::logical_partitions || !place.content.blockers.empty() ||
         place.partition->type_name == "BIOS boot";
}

}  // namespace

Lineup::Lineup(const Guest& guest, std::size_t disk) : disk_(&guest.disks()[disk]) {
  const auto& partitions = disk_->table->facts().partitions;
  const bool any_logical = std::any_of(partitions.begin(), partitions.end(), [](const auto& p) {
    return p.role == PartitionRole::logical;
  });
  for (const Place& place : disk_->places) {
    if (!place.partition) continue;
    if (place.partition->role == PartitionRole::extended && any_logical) continue;
    lying_.push_back(
        {&place, place.partition->first, place.partition->count, stays_where_it_is(place)});
  }
  std::sort(lying_.begin(), lying_.end(),
            [](const Lying& a, const Lying& b) { return a.first < b.first; });
}

Lineup::Lying* Lineup::find(const Place& place) {
  const auto found = std::find_if(lying_.begin(), lying_.end(),
                                  [&](const Lying& each) { return each.place == &place; });
  return found == lying_.end() ? nullptr : &*found;
}

void Lineup::cut(Lying& each, Bytes size) const {
  const Partition& partition = *each.place->partition;
  if (partition.role == PartitionRole::extended) return;
  each.count = aligned_end(*disk_, partition, size) - partition.first;
}

void Lineup::pack() {
  const std::uint64_t unit = (1U << 20) / disk_->table->facts().sector_size;
  Sectors end;
  for (std::size_t i = 0; i < lying_.size(); ++i) {
    Lying& each = lying_[i];
    const Sectors front(round_up((end + each.place->partition->lead).value(), unit));
    if (i != 0 && !each.stays && front < each.first) each.first = front;
    end = each.end();
  }
}

std::optional<Lineup::Chain> Lineup::chain(Sectors usable) const {
  Chain chain;
  bool changes = false;
  Sectors limit = usable;
  Sectors begin;
  for (const Lying& each : lying_) {
    if (is_logical(each)) {
      if (chain.logical.empty()) begin = each.first - each.place->partition->lead;
      chain.logical.push_back({each.place->partition->number, each.first, each.end()});
      changes = changes || each.moves();
      limit = usable;
    } else if (!chain.logical.empty() && limit == usable) {
      limit = each.first;
    }
  }
  if (chain.logical.empty()) return std::nullopt;
  for (const Partition& outer : disk_->table->facts().partitions) {
    if (outer.role != PartitionRole::extended) continue;
    if (!changes && outer.end() <= limit) return std::nullopt;
    chain.extended = {outer.number, begin, chain.logical.back().end};
    return chain;
  }
  return std::nullopt;
}

LayerFloor packed_floor(const Guest& guest, Floors& floors, std::size_t disk) {
  Lineup lineup(guest, disk);
  for (const Lineup::Lying& each : lineup.all())
    lineup.cut(*lineup.find(*each.place), floors.of(*each.place).size);
  lineup.pack();
  return {disk_for(guest.disks()[disk], lineup.end()),
          "every partition at its floor, side by side"};
}

}  // namespace jh
