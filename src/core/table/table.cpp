#include "core/table/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

namespace jh {

const Partition* find_in(const std::vector<Partition>& among, std::uint32_t number) {
  for (const Partition& partition : among)
    if (partition.number == number) return &partition;
  return nullptr;
}

const Partition* PartitionTable::find(std::uint32_t number) const {
  return find_in(facts_.partitions, number);
}

Sectors PartitionTable::reach(const std::vector<Partition>& among, const Partition& partition,
                              Sectors usable_end) const {
  Sectors limit = std::max(usable_end, partition.end());
  for (const Partition& other : among) {
    // Around a logical partition its extended one is no obstacle; it grows along.
    if (partition.role == PartitionRole::logical && other.role == PartitionRole::extended) continue;
    if (other.number == partition.number || other.first < partition.end()) continue;
    limit = std::min(limit, other.first);
    // A logical partition needs a sector before it for its own table; by custom a whole MiB.
    if (other.role == PartitionRole::logical)
      limit = std::max(partition.end(), std::min(limit, align_down(other.first - Sectors(1))));
  }
  return limit;
}

const Partition* PartitionTable::extended_to_grow(const Partition& partition,
                                                  Sectors new_end) const {
  if (partition.role != PartitionRole::logical) return nullptr;
  for (const Partition& other : facts_.partitions)
    if (other.role == PartitionRole::extended && other.end() < new_end) return &other;
  return nullptr;
}

std::vector<Gap> PartitionTable::gaps(const std::vector<Partition>& among,
                                      Sectors usable_end) const {
  std::vector<Gap> found;
  const auto walk = [&](Sectors from, Sectors to, bool inside) {
    std::vector<std::pair<Sectors, Sectors>> taken;
    for (const Partition& p : among)
      if ((p.role == PartitionRole::logical) == inside && p.first >= from)
        taken.emplace_back(p.first, p.end());
    std::sort(taken.begin(), taken.end());
    for (const auto& [first, end] : taken) {
      if (first > from) found.push_back({from, first - from, inside});
      from = std::max(from, end);
    }
    if (to > from) found.push_back({from, to - from, inside});
  };
  walk(facts_.first_usable, usable_end, false);
  for (const Partition& p : among)
    if (p.role == PartitionRole::extended) walk(p.first, p.end(), true);
  std::sort(found.begin(), found.end(),
            [](const Gap& a, const Gap& b) { return a.first < b.first; });
  return found;
}

std::pair<Sectors, Sectors> PartitionTable::largest_room(const std::vector<Gap>& among) const {
  std::pair<Sectors, Sectors> best;
  for (const Gap& gap : among) {
    const Sectors first = align_up(gap.first);
    const Sectors end = align_down(gap.first + gap.count);
    if (end > first && end - first > best.second - best.first) best = {first, end};
  }
  return best;
}

void PartitionTable::check_layout(const std::string& where) {
  std::vector<const Partition*> order;
  for (const Partition& p : facts_.partitions) order.push_back(&p);
  std::sort(order.begin(), order.end(), [](const Partition* a, const Partition* b) {
    return std::pair(a->first, a->role) < std::pair(b->first, b->role);
  });
  const auto block = [&](std::string what) {
    facts_.blockers.emplace_back(Status::damaged, what, where,
                                 "put the table right in the guest's rescue system first");
  };
  Sectors outer_end;
  const Partition* outer = nullptr;
  const Partition* dynamic = nullptr;
  for (const Partition* p : order) {
    if (p->purpose == PartitionPurpose::dynamic_disk && dynamic == nullptr) dynamic = p;
    if (p->end() > facts_.disk)
      block(fmt::format("partition {} ends at sector {}, past the disk's {} sectors", p->number,
                        p->end().value() - 1, facts_.disk.value()));
    if (p->role == PartitionRole::logical) continue;
    if (outer != nullptr && p->first < outer_end)
      block(fmt::format("partitions {} and {} overlap", outer->number, p->number));
    outer = p;
    outer_end = std::max(outer_end, p->end());
  }
  if (dynamic != nullptr)
    facts_.blockers.emplace_back(
        Status::unsupported,
        fmt::format("it is a dynamic disk: its volumes are put together by the guest from parts of "
                    "partition {}",
                    dynamic->number),
        where, "let the guest make it a basic disk first");
}

std::string kind_name(TableKind kind) { return kind == TableKind::gpt ? "GPT" : "MBR"; }

namespace {

template <class Code>
struct NamedType {
  Code code;
  const char* name;
  PartitionPurpose purpose = PartitionPurpose::any;
};

}  // namespace

PartitionType mbr_type(std::uint8_t type) {
  using Purpose = PartitionPurpose;
  static constexpr std::array<NamedType<std::uint8_t>, 24> types{{
      {0x01, "FAT12"},
      {0x04, "FAT16"},
      {0x05, "extended"},
      {0x06, "FAT16"},
      {0x07, "NTFS or exFAT"},
      {0x0B, "FAT32"},
      {0x0C, "FAT32"},
      {0x0E, "FAT16"},
      {0x0F, "extended"},
      {0x11, "hidden FAT12"},
      {0x27, "rescue", Purpose::rescue},
      {0x42, "dynamic disk", Purpose::dynamic_disk},
      {0x82, "Linux swap"},
      {0x83, "Linux"},
      {0x85, "extended"},
      {0x8E, "Linux LVM", Purpose::lvm},
      {0xA5, "FreeBSD"},
      {0xEE, "GPT protective"},
      {0xEF, "EFI system"},
      {0xFD, "Linux RAID"},
      {0xA6, "OpenBSD"},
      {0xA9, "NetBSD"},
      {0xBF, "Solaris"},
      {0xAF, "HFS"},
  }};
  for (const auto& [code, name, purpose] : types)
    if (code == type) return {name, purpose};
  return {fmt::format("type 0x{:02x}", type)};
}

PartitionType gpt_type(const std::string& guid) {
  using Purpose = PartitionPurpose;
  static constexpr std::array<NamedType<const char*>, 26> types{{
      {"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
      {"21686148-6449-6e6f-744e-656564454649", "BIOS boot", Purpose::boot_code},
      {"0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux"},
      {"4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "Linux root"},
      {"bc13c2ff-59e6-4262-a352-b275fd6f7172", "Linux boot"},
      {"933ac7e1-2eb4-4f13-b844-0e14e2aef915", "Linux home"},
      {"3b8f8425-20e0-4f3b-907f-1a25a76f98e8", "Linux srv"},
      {"4d21b016-b534-45c2-a9fb-5c16e091fd2d", "Linux var"},
      {"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
      {"e6d6d379-f507-44c2-a23c-238f2a3df928", "Linux LVM", Purpose::lvm},
      {"a19d880f-05fc-4d3b-a006-743f0f84911e", "Linux RAID"},
      {"ca7d7ccb-63ed-4c53-861c-1742536059cc", "Linux encrypted"},
      {"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
      {"e3c9e316-0b5c-4db8-817d-f92df00215ae", "reserved", Purpose::reserved},
      {"de94bba4-06d1-4d40-a16a-bfd50179d6ac", "rescue", Purpose::rescue},
      {"5808c8aa-7e8f-42e0-85d2-e1e90434cfb3", "dynamic disk", Purpose::dynamic_disk},
      {"af9b60a0-1431-4f62-bc68-3311714a69ad", "dynamic disk", Purpose::dynamic_disk},
      {"8da63339-0007-60c0-c436-083ac8230908", "reserved by Linux"},
      {"83bd6b9d-7f41-11dc-be0b-001560b84f0f", "FreeBSD boot"},
      {"516e7cb4-6ecf-11d6-8ff8-00022d09712b", "FreeBSD"},
      {"516e7cb5-6ecf-11d6-8ff8-00022d09712b", "FreeBSD swap"},
      {"516e7cb6-6ecf-11d6-8ff8-00022d09712b", "FreeBSD UFS"},
      {"516e7cba-6ecf-11d6-8ff8-00022d09712b", "FreeBSD ZFS"},
      {"824cc7a0-36a8-11e3-890a-952519ad3f61", "OpenBSD"},
      {"48465300-0000-11aa-aa11-00306543ecac", "HFS"},
      {"7c3457ef-0000-11aa-aa11-00306543ecac", "APFS"},
  }};
  for (const auto& [code, name, purpose] : types)
    if (guid == code) return {name, purpose};
  return {"type " + guid};
}

}  // namespace jh
