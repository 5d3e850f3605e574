#include "core/plan/grow_disk.h"

#include <algorithm>

#include "core/plan/content.h"
#include "core/store/memory_store.h"

namespace jh {

DiskGrowth::DiskGrowth(const Guest& guest, std::size_t disk, Bytes size, bool may_move)
    : guest_(&guest), index_(disk), size_(size), may_move_(may_move) {
  if (this->disk().table) lineup_.emplace(guest, disk);
  if (!this->disk().layers.empty()) whole_ = this->disk().layers.front().size;
}

// Where all others stay where they are; but what was promised to one in front may push it.
Bytes DiskGrowth::reach_in_place(const Layer& layer) const {
  if (!layer.partition) return std::max(layer.size, size_);
  const Sectors end = aligned_reach(disk(), *layer.partition, size_);
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

// The table is told of everything that was promised, on a view in memory: so the new partition lies
// where the change will make it.
NewPartition DiskGrowth::place_new() const {
  const std::uint32_t sector = disk().table->facts().sector_size;
  Store& store = disk().container->disk();
  ScratchStore view(store, std::max(size_.value(), store.size()));
  const auto table = open_table(view, sector);
  ensure(table != nullptr, "the table can be read again");
  table->cover_disk(view);
  const std::vector<PartitionLayout::Member> moves = moved();
  for (auto member = moves.rbegin(); member != moves.rend(); ++member)
    if (member->layer->partition->role != PartitionRole::logical)
      table->move(view, member->layer->partition->number, member->first, member->end());
  if (const auto chain = extended()) table->move_chain(view, chain->outer, chain->logical);
  const PartitionLayout lineup = arranged();
  const auto told = open_table(view, sector);
  for (const PartitionLayout::Member& member : lineup.members())
    if (member.end() > told->find(member.layer->partition->number)->end())
      told->move_end(view, member.layer->partition->number, member.end());
  for (const NewPartition& partition : fresh_) told->create(view, partition, Uuid{});
  return told->place_new(size_);
}

bool could_grow_by_moves(const Guest& guest, const Layer& layer, Bytes disk_size) {
  if (!layer.partition || !guest.disks()[layer.disk].table) return false;
  const DiskGrowth moving(guest, layer.disk, disk_size, true);
  return moving.reach(layer) > moving.reach_in_place(layer);
}

}  // namespace jh
