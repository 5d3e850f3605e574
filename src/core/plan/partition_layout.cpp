#include "core/plan/partition_layout.h"

#include <algorithm>

namespace jh {
namespace {

bool is_logical(const PartitionLayout::Member& member) {
  return member.layer->partition->role == PartitionRole::logical;
}

}  // namespace

std::string why_it_stays(const Layer& layer) {
  // A member is found by what it holds, and moves as it is.
  const bool is_member = layer.content.kind == ContentKind::array_member;
  if (!layer.content.blockers.empty() && !is_member) return layer.content.blockers.front().what();
  if (layer.partition->purpose == PartitionPurpose::boot_code)
    return "the boot loader finds it by its place";
  if (layer.content.kind == ContentKind::logical_partitions)
    return "an extended partition without logical ones";
  if (layer.content.kind == ContentKind::unknown ||
      layer.content.kind == ContentKind::partition_table)
    return "it is not known what is in it";
  return {};
}

PartitionLayout::PartitionLayout(const Guest& guest, std::size_t disk)
    : disk_(&guest.disks()[disk]) {
  const auto& partitions = disk_->table->facts().partitions;
  const bool any_logical = std::any_of(partitions.begin(), partitions.end(), [](const auto& p) {
    return p.role == PartitionRole::logical;
  });
  for (const Layer& layer : disk_->layers) {
    if (!layer.partition) continue;
    if (layer.partition->role == PartitionRole::extended && any_logical) continue;
    members_.push_back(
        {&layer, layer.partition->first, layer.partition->count, !why_it_stays(layer).empty()});
  }
  std::sort(members_.begin(), members_.end(),
            [](const Member& a, const Member& b) { return a.first < b.first; });
}

PartitionLayout::Member* PartitionLayout::find(const Layer& layer) {
  const auto found = std::find_if(members_.begin(), members_.end(),
                                  [&](const Member& member) { return member.layer == &layer; });
  return found == members_.end() ? nullptr : &*found;
}

bool PartitionLayout::has(const Layer& layer) const {
  return std::any_of(members_.begin(), members_.end(),
                     [&](const Member& member) { return member.layer == &layer; });
}

void PartitionLayout::cut(Member& member, Bytes size) const {
  const Partition& partition = *member.layer->partition;
  if (partition.role == PartitionRole::extended) return;
  member.count = aligned_end(*disk_, partition, size) - partition.first;
}

void PartitionLayout::pack_to_front() {
  Sectors end;
  for (std::size_t i = 0; i < members_.size(); ++i) {
    Member& member = members_[i];
    const Sectors front = disk_->table->align_up(end + member.layer->partition->lead);
    if (i != 0 && !member.stays && front < member.first) member.first = front;
    end = member.end();
  }
}

// Those from one to another, as far back as the wall behind them lets them.
bool PartitionLayout::push_to_end(std::size_t from, std::size_t last, Sectors wall) {
  for (std::size_t i = last + 1; i-- > from;) {
    Member& member = members_[i];
    if (wall < member.count) return false;
    const Sectors first = disk_->table->align_down(wall - member.count);
    if (first < member.first || member.stays) return false;
    member.first = first;
    wall = member.front();
  }
  return true;
}

bool PartitionLayout::make_room(Sectors usable) {
  const std::vector<Member> before = members_;
  const auto wall_behind = [&](std::size_t i) {
    return i + 1 < members_.size() ? members_[i + 1].front() : usable;
  };
  for (std::size_t i = 0; i < members_.size(); ++i) {
    bool fits = members_[i].end() <= wall_behind(i);
    for (std::size_t last = i + 1; !fits && last < members_.size(); ++last) {
      const std::vector<Member> tried = members_;
      fits = push_to_end(i + 1, last, wall_behind(last)) && members_[i].end() <= wall_behind(i);
      if (!fits) members_ = tried;
    }
    if (fits) continue;
    members_ = before;
    return false;
  }
  return true;
}

bool PartitionLayout::could_have(const Layer& layer, Sectors count, Sectors usable) const {
  PartitionLayout tried = *this;
  tried.find(layer)->count = count;
  return tried.make_room(usable);
}

Sectors PartitionLayout::most(const Layer& layer, Sectors usable) const {
  const Member& member = *std::find_if(members_.begin(), members_.end(),
                                       [&](const Member& each) { return each.layer == &layer; });
  const std::uint64_t unit = disk_->table->alignment();
  // The more it has, the less is left for the others: the bound can be halved in on.
  std::uint64_t good = 0;
  std::uint64_t bad = usable > member.end() ? (usable - member.end()).value() / unit + 1 : 1;
  while (bad - good > 1) {
    const std::uint64_t middle = good + (bad - good) / 2;
    const bool fits = could_have(layer, member.count + Sectors(middle * unit), usable);
    (fits ? good : bad) = middle;
  }
  const Sectors end = member.end() + Sectors(good * unit);
  const Sectors aligned = disk_->table->align_down(end);
  return (aligned > member.end() ? aligned : end) - member.first;
}

std::optional<PartitionLayout::Extended> PartitionLayout::extended(Sectors usable) const {
  const Partition* outer = nullptr;
  for (const Partition& partition : disk_->table->facts().partitions)
    if (partition.role == PartitionRole::extended) outer = &partition;
  Extended found;
  bool changes = false;
  Sectors in_front;  // where what stands before them ends
  Sectors limit = usable;
  for (const Member& member : members_) {
    if (is_logical(member)) {
      if (found.logical.empty()) found.outer.first = member.front();
      found.logical.push_back({member.layer->partition->number, member.first, member.end()});
      changes = changes || member.moves();
    } else if (found.logical.empty()) {
      in_front = member.end();
    } else {
      limit = std::min(limit, member.first);
    }
  }
  if (found.logical.empty() || outer == nullptr) return std::nullopt;
  if (!changes && in_front <= outer->first && outer->end() <= limit) return std::nullopt;
  found.outer.number = outer->number;
  found.outer.end = found.logical.back().end;
  return found;
}

LayerFloor packed_floor(const Guest& guest, Floors& floors, std::size_t disk) {
  PartitionLayout lineup(guest, disk);
  for (const PartitionLayout::Member& member : lineup.members())
    lineup.cut(*lineup.find(*member.layer), floors.of(*member.layer).size);
  lineup.pack_to_front();
  return {disk_for(guest.disks()[disk], lineup.end()),
          "every partition at its floor, side by side"};
}

}  // namespace jh
