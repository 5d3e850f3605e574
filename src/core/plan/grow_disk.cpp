#include "core/plan/grow_disk.h"

#include <algorithm>

#include "core/plan/content.h"

namespace jh {

DiskGrowth::DiskGrowth(const Guest& guest, std::size_t disk, Bytes size, bool may_move)
    : guest_(&guest), index_(disk), size_(size), may_move_(may_move) {
  if (this->disk().table) lineup_.emplace(guest, disk);
  if (!this->disk().layers.empty()) whole_ = this->disk().layers.front().size;
}

// Where all others stay where they are; but what was promised to one in front may push it.
Bytes DiskGrowth::reach_in_place(const Layer& layer) const {
  if (!layer.partition) return std::max(layer.size, size_);
  const Sectors end = aligned_reach(*disk().table, *layer.partition, size_);
  const Sectors count = end - layer.partition->first;
  if (may_move_ && lineup_->has(layer) && !lineup_->could_have(layer, count, usable()))
    return bytes(lineup_->most(layer, usable()));
  return std::max(promised(layer), bytes(count));
}

Bytes DiskGrowth::reach(const Layer& layer) const {
  const Bytes in_place = reach_in_place(layer);
  if (!may_move_ || !layer.partition || !lineup_->has(layer)) return in_place;
  return std::max(in_place, bytes(lineup_->most(layer, usable())));
}

void DiskGrowth::promise(const Layer& layer, Bytes size) {
  promised_ = true;
  if (!layer.partition) {
    whole_ = size;
  } else if (PartitionLayout::Member* member = lineup_->find(layer)) {
    member->count =
        std::max(member->count, Sectors(ceil_div(size.value(), disk().table->facts().sector_size)));
  }
}

Bytes DiskGrowth::promised(const Layer& layer) const {
  if (!layer.partition) return whole_;
  PartitionLayout lineup = *lineup_;
  const PartitionLayout::Member* member = lineup.find(layer);
  return member == nullptr ? layer.size : bytes(member->count);
}

PartitionLayout DiskGrowth::arranged() const {
  PartitionLayout lineup = *lineup_;
  if (may_move_) ensure(lineup.make_room(usable()), "what was promised fits on the disk");
  return lineup;
}

std::vector<PartitionLayout::Member> DiskGrowth::moved() const {
  std::vector<PartitionLayout::Member> found;
  if (!lineup_ || !may_move_) return found;
  const PartitionLayout lineup = arranged();
  for (const PartitionLayout::Member& member : lineup.members())
    if (member.moves()) found.push_back(member);
  return found;
}

std::optional<PartitionLayout::Extended> DiskGrowth::extended() const {
  if (!lineup_ || !may_move_) return std::nullopt;
  return arranged().extended(usable());
}

PartitionLayout::Member DiskGrowth::layout_of(const Layer& layer) const {
  PartitionLayout lineup = arranged();
  const PartitionLayout::Member* member = lineup.find(layer);
  ensure(member != nullptr, "the partition is on the disk");
  return *member;
}

// Among the partitions as the change will make them.
NewPartition DiskGrowth::place_new() const {
  std::vector<Partition> then = disk().table->facts().partitions;
  const auto put = [&](std::uint32_t number, Sectors first, Sectors end) {
    for (Partition& partition : then)
      if (partition.number == number) {
        partition.first = first;
        partition.count = end - first;
      }
  };
  // The extended partition goes along with what is in it.
  const auto reach_out = [&](Sectors end) {
    for (Partition& partition : then)
      if (partition.role == PartitionRole::extended && partition.end() < end)
        partition.count = end - partition.first;
  };
  const auto chain = extended();
  if (chain) put(chain->outer.number, chain->outer.first, chain->outer.end);
  const PartitionLayout lineup = arranged();
  for (const PartitionLayout::Member& member : lineup.members()) {
    const Partition& old = *member.layer->partition;
    put(old.number, member.first, member.end());
    if (old.role == PartitionRole::logical) reach_out(member.end());
  }
  for (const NewPartition& fresh : fresh_) {
    Partition partition;
    partition.number = fresh.number;
    partition.role = fresh.role;
    partition.first = fresh.first;
    partition.count = fresh.end - fresh.first;
    then.push_back(partition);
    if (fresh.role == PartitionRole::logical) reach_out(fresh.end);
  }
  return disk().table->place_new(then, size_);
}

bool could_grow_by_moves(const Guest& guest, const Layer& layer, Bytes disk_size) {
  if (!layer.partition || !guest.disks()[layer.disk].table) return false;
  const DiskGrowth moving(guest, layer.disk, disk_size, true);
  return moving.reach(layer) > moving.reach_in_place(layer);
}

}  // namespace jh
