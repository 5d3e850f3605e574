#include "core/table/mbr/mbr.h"

#include <fmt/format.h>

#include <string_view>

namespace jh {

using mbr::Entry;
using mbr::Record;

namespace {

constexpr std::uint64_t lba_limit = 1ULL << 32;  // 32-bit sector numbers
constexpr std::size_t max_logical = 128;

bool plausible(const Record& record) {
  if (record.signature.value() != mbr::boot_signature) return false;
  bool any = false;
  for (const Entry& entry : record.entries) {
    if ((entry.boot_indicator & 0x7F) != 0) return false;
    if (entry.type == mbr::type_empty) continue;
    if (entry.sectors.value() == 0 || entry.start_lba.value() == 0) return false;
    any = true;
  }
  return any;
}

Record read_record(Store& disk, std::uint64_t lba, std::uint32_t sector_size) {
  return read_as<Record>(disk, checked_mul(lba, sector_size));
}

}  // namespace

std::unique_ptr<PartitionTable> open_mbr(Store& disk, std::uint32_t sector_size) {
  if (!plausible(read_as<Record>(disk, 0))) return nullptr;
  return std::make_unique<MbrTable>(disk, sector_size == 0 ? 512 : sector_size);
}

std::unique_ptr<PartitionTable> make_mbr(Store& disk, std::uint32_t sector_size) {
  Record record{};
  record.signature = mbr::boot_signature;
  const Uuid random = random_guid();
  record.disk_signature = parse_as<Le32>(random, 0).value();
  disk.write(0, bytes_of(record));
  return std::make_unique<MbrTable>(disk, sector_size);
}

std::pair<Sectors, Sectors> usable_by_new_mbr(Bytes disk_size, std::uint32_t sector_size) {
  return {Sectors(1), Sectors(std::min(disk_size.value() / sector_size, lba_limit))};
}

MbrTable::MbrTable(Store& disk, std::uint32_t sector_size) {
  facts_.kind = TableKind::mbr;
  facts_.sector_size = sector_size;
  const auto record = read_as<Record>(disk, 0);
  facts_.id = fmt::format("{:08x}", record.disk_signature.value());
  set_limits(disk);
  find_geometry(record);
  const Partition* extended = nullptr;
  std::uint32_t extended_number = 0;
  for (std::size_t i = 0; i < record.entries.size(); ++i) {
    const Entry& entry = record.entries[i];
    if (entry.type == mbr::type_empty) continue;
    const auto number = static_cast<std::uint32_t>(i + 1);
    const bool is_extended = mbr::is_extended(entry.type);
    add(number, is_extended ? PartitionRole::extended : PartitionRole::primary, entry,
        {0, i, 0, 0, false, {}});
    if (is_extended && extended_number != 0)
      facts_.blockers.emplace_back(Status::damaged, "the table has two extended partitions",
                                   disk.name(), "put the table right in the guest's rescue system");
    if (is_extended && extended_number == 0) extended_number = number;
  }
  if (extended_number != 0) {
    extended = find(extended_number);
    const Partition copy = *extended;  // adding logical partitions moves the list
    read_chain(disk, copy);
  }
  check_layout(disk.name());
}

Ranges MbrTable::own_places() const {
  Ranges places;
  add_range(places, mbr::entries_at, mbr::sector_bytes);
  const auto add = [&](Sectors record) {
    const std::uint64_t at = to_bytes(record, facts_.sector_size).value();
    add_range(places, at, at + mbr::sector_bytes);
  };
  for (const Partition& partition : facts_.partitions) {
    if (partition.role == PartitionRole::extended) add(partition.first);
    if (partition.role == PartitionRole::logical) add(partition.first - partition.lead);
  }
  return places;
}

Sectors MbrTable::usable_end_on(Bytes disk_size) const {
  return Sectors(std::min(disk_size.value() / facts_.sector_size, lba_limit));
}

void MbrTable::set_limits(Store& disk) {
  facts_.disk = Sectors(disk.size() / facts_.sector_size);
  facts_.first_usable = Sectors(1);
  facts_.usable_end = usable_end_on(Bytes(disk.size()));
  facts_.known_end = facts_.usable_end;  // an MBR holds no size of the disk
  facts_.notes.clear();
  if (facts_.disk.value() > lba_limit)
    facts_.notes.push_back(
        fmt::format("an MBR reaches {} only; what lies behind cannot be used by a partition",
                    human(to_bytes(Sectors(lba_limit), facts_.sector_size))));
}

void MbrTable::add(std::uint32_t number, PartitionRole role, const Entry& entry, Slot slot) {
  Partition partition;
  partition.number = number;
  partition.role = role;
  partition.first = Sectors(slot.base_lba + entry.start_lba.value());
  partition.count = Sectors(entry.sectors.value());
  partition.type_code = fmt::format("0x{:02x}", entry.type);
  const PartitionType type = mbr_type(entry.type);
  partition.type_name = type.name;
  partition.purpose = type.purpose;
  // What Linux calls the PARTUUID of an MBR partition: disk signature and number.
  partition.part_uuid = fmt::format("{}-{:02x}", facts_.id, number);
  if (role == PartitionRole::logical) partition.lead = partition.first - Sectors(slot.record_lba);
  facts_.partitions.push_back(partition);
  slots_.push_back(slot);
}

// Each extended record holds one logical partition (relative to the record) and a link to the next
// record (relative to the extended partition's start).
void MbrTable::read_chain(Store& disk, const Partition& extended) {
  const auto chain_damaged = [&](const std::string& what) {
    facts_.blockers.emplace_back(Status::damaged, what, disk.name(),
                                 "put the table right in the guest's rescue system");
  };
  std::uint64_t lba = extended.first.value();
  std::uint64_t link_lba = 0;
  std::uint64_t previous_end = lba;
  std::uint32_t number = 5;  // a record that describes none takes no number
  for (std::size_t n = 0; n < max_logical; ++n) {
    if (checked_mul(lba + 1, facts_.sector_size) > disk.size())
      return chain_damaged(
          fmt::format("the chain of logical partitions leaves the disk at sector {}", lba));
    const Record record = read_record(disk, lba, facts_.sector_size);
    if (record.signature.value() != mbr::boot_signature)
      return chain_damaged(
          fmt::format("sector {} should describe a logical partition, but has no "
                      "signature",
                      lba));
    const Entry& logical = record.entries[0];
    const Entry& link = record.entries[1];
    if (logical.type != mbr::type_empty) {
      add(number, PartitionRole::logical, logical, {lba, 0, lba, link_lba, n != 0, record});
      const Partition& added = facts_.partitions.back();
      if (added.first.value() <= lba || added.end() > extended.end() ||
          added.first.value() < previous_end)
        chain_damaged(
            fmt::format("logical partition {} does not lie within its extended one", number));
      previous_end = added.end().value();
      ++number;
    }
    if (!mbr::is_extended(link.type)) return;
    const std::uint64_t next = extended.first.value() + link.start_lba.value();
    if (next <= lba || next >= extended.end().value())
      return chain_damaged(
          fmt::format("the chain of logical partitions goes astray at sector {}", lba));
    link_lba = lba;
    lba = next;
  }
  chain_damaged("the chain of logical partitions has no end");
}

// Old entries keep cylinder numbers of a geometry that is written nowhere; take the one that makes
// the entries' own two notations agree.
void MbrTable::find_geometry(const Record& record) {
  for (const Geometry& guess :
       {Geometry{255, 63}, {16, 63}, {64, 32}, {128, 63}, {240, 63}, {32, 63}, {64, 63}}) {
    geometry_ = guess;
    bool fits = true;
    for (const Entry& entry : record.entries) {
      if (entry.type == mbr::type_empty) continue;
      const std::uint64_t last = std::uint64_t{entry.start_lba.value()} + entry.sectors.value() - 1;
      fits = fits && chs_of(entry.start_lba.value()) == entry.start_chs &&
             chs_of(last) == entry.end_chs;
    }
    if (fits) return;
  }
  geometry_ = {};
}

mbr::Chs MbrTable::chs_of(std::uint64_t lba) const {
  constexpr mbr::Chs out_of_reach{0xFE, 0xFF, 0xFF};
  if (geometry_.heads == 0) return out_of_reach;
  const std::uint64_t cylinder = lba / geometry_.sectors / geometry_.heads;
  if (cylinder > 1023) return out_of_reach;
  const std::uint64_t head = lba / geometry_.sectors % geometry_.heads;
  const std::uint64_t sector = lba % geometry_.sectors + 1;
  return {static_cast<std::uint8_t>(head),
          static_cast<std::uint8_t>(sector | ((cylinder >> 2) & 0xC0)),
          static_cast<std::uint8_t>(cylinder & 0xFF)};
}

void MbrTable::cover_disk(Store& disk) { set_limits(disk); }

void MbrTable::write_end(Store& disk, const Slot& slot, std::size_t index, std::uint64_t first,
                         std::uint64_t end) {
  const std::uint64_t at = checked_mul(slot.record_lba, facts_.sector_size);
  auto record = read_as<Record>(disk, at);
  Entry& entry = record.entries[index];
  entry.sectors = checked_cast<std::uint32_t>(end - first);
  entry.end_chs = chs_of(end - 1);
  disk.write(at, bytes_of(record));
}

void MbrTable::move_end(Store& disk, std::uint32_t number, Sectors new_end) {
  for (std::size_t i = 0; i < facts_.partitions.size(); ++i) {
    Partition& partition = facts_.partitions[i];
    if (partition.number != number) continue;
    ensure(new_end > partition.first && new_end <= reach(partition),
           "a partition ends behind its beginning, and grows into free sectors only");
    if (const Partition* outer = extended_to_grow(partition, new_end))
      move_end(disk, outer->number, new_end);
    const Slot& slot = slots_[i];
    write_end(disk, slot, slot.index, partition.first.value(), new_end.value());
    if (slot.has_link) {
      // The link covers the record itself, the gap behind it and the partition.
      write_end(disk, {slot.link_lba, 1, 0, 0, false, {}}, 1, slot.record_lba, new_end.value());
    }
    partition.count = new_end - partition.first;
    return;
  }
  ensure(false, "the partition is in the table");
}

MbrTable::Slot& MbrTable::slot_of(std::uint32_t number) {
  const Partition* partition = find(number);
  ensure(partition != nullptr, "the partition is in the table");
  return slots_[static_cast<std::size_t>(partition - facts_.partitions.data())];
}

Entry MbrTable::entry_at(Entry known, std::uint64_t base_lba, std::uint64_t first,
                         std::uint64_t end) const {
  known.start_lba = checked_cast<std::uint32_t>(first - base_lba);
  known.start_chs = chs_of(first);
  known.sectors = checked_cast<std::uint32_t>(end - first);
  known.end_chs = chs_of(end - 1);
  return known;
}

void MbrTable::move(Store& disk, std::uint32_t number, Sectors first, Sectors end) {
  const Slot& slot = slot_of(number);
  Partition& partition = facts_.partitions[static_cast<std::size_t>(&slot - slots_.data())];
  ensure(partition.role != PartitionRole::logical, "logical partitions move together");
  auto record = read_record(disk, slot.record_lba, facts_.sector_size);
  Entry& entry = record.entries[slot.index];
  entry = entry_at(entry, slot.base_lba, first.value(), end.value());
  disk.write(checked_mul(slot.record_lba, facts_.sector_size), bytes_of(record));
  partition.first = first;
  partition.count = end - first;
}

void MbrTable::move_chain(Store& disk, const NewPlace& extended,
                          const std::vector<NewPlace>& logical) {
  const std::uint64_t base = extended.first.value();
  const auto record_of = [&](const NewPlace& place) {
    return (place.first - find(place.number)->lead).value();
  };
  ensure(!logical.empty() && record_of(logical.front()) == base,
         "the extended partition begins with the first record");
  for (std::size_t i = 0; i < logical.size(); ++i) {
    const NewPlace& place = logical[i];
    Slot& slot = slot_of(place.number);
    Record record = slot.record;
    const std::uint64_t at = record_of(place);
    record.entries[0] = entry_at(record.entries[0], at, place.first.value(), place.end.value());
    Entry link{};
    if (i + 1 < logical.size()) {
      link.type = mbr::is_extended(record.entries[1].type) ? record.entries[1].type
                                                           : mbr::type_extended_chs;
      link = entry_at(link, base, record_of(logical[i + 1]), logical[i + 1].end.value());
    }
    record.entries[1] = link;
    disk.write(checked_mul(at, facts_.sector_size), bytes_of(record));
  }
  move(disk, extended.number, extended.first, extended.end);
}

// A primary partition where an entry is free and the largest room lies outside of the extended
// partition; otherwise a logical one.
NewPartition MbrTable::place_new(const std::vector<Partition>& among, Bytes disk_size) const {
  const Sectors usable_end = usable_end_on(disk_size);
  std::vector<Gap> outside = gaps(among, usable_end);
  std::erase_if(outside, [](const Gap& gap) { return gap.in_extended; });
  const auto [first, end] = largest_room(outside);
  const NewPartition logical = place_logical(among, usable_end);
  const Sectors logical_size = logical.end - logical.first;
  std::uint32_t number = 1;
  while (number <= 4 && find_in(among, number) != nullptr) ++number;
  if (number <= 4 && first != end && end - first >= logical_size)
    return {number, PartitionRole::primary, first, end};
  if (logical_size != Sectors(0)) return logical;
  if (first != end)
    refuse("the MBR has no entry left: it holds four primary partitions, and all are used", "MBR",
           "let the last partition grow in place, or give the guest another disk "
           "(--add-disk FILE=SIZE)");
  refuse(usable_end.value() == lba_limit
             ? "an MBR reaches 2 TiB only, and there is no room for a new partition before that"
             : "the disk has no room for a new partition",
         "MBR",
         usable_end.value() == lba_limit ? "give the guest another disk (--add-disk FILE=SIZE)"
                                         : "make the disk larger (--by SIZE)");
}

// Behind the last logical partition; the extended one grows along where free sectors follow it.
NewPartition MbrTable::place_logical(const std::vector<Partition>& among,
                                     Sectors usable_end) const {
  const Partition* extended = nullptr;
  Sectors from;
  std::uint32_t number = 5;
  for (const Partition& p : among) {
    if (p.role == PartitionRole::extended) extended = &p;
    if (p.role == PartitionRole::logical) {
      from = std::max(from, p.end());
      number = std::max(number, p.number + 1);
    }
  }
  if (extended == nullptr || number >= 5 + max_logical) return {};
  from = std::max(from, extended->first);
  // The record that describes it takes a sector, and by custom a whole MiB.
  const Sectors record = from == extended->first ? from : align_up(from);
  const Sectors first = align_up(record + Sectors(1));
  const Sectors end = align_down(reach(among, *extended, usable_end));
  if (end <= first) return {};
  return {number, PartitionRole::logical, first, end};
}

void MbrTable::create(Store& disk, const NewPartition& partition, const Uuid&) {
  if (partition.role == PartitionRole::logical) {
    create_logical(disk, partition);
  } else {
    write_entry(disk, 0, partition.number - 1, 0, mbr::type_physical_volume,
                partition.first.value(), partition.end.value());
  }
}

void MbrTable::create_logical(Store& disk, const NewPartition& partition) {
  const Partition* extended = nullptr;
  for (const Partition& p : facts_.partitions)
    if (p.role == PartitionRole::extended) extended = &p;
  ensure(extended != nullptr, "a logical partition lies in an extended one");
  const std::uint64_t base = extended->first.value();
  if (extended->end() < partition.end) move_end(disk, extended->number, partition.end);
  const Slot* last = nullptr;
  for (const Slot& slot : slots_)
    if (slot.base_lba != 0 && (last == nullptr || slot.record_lba > last->record_lba)) last = &slot;
  const std::uint64_t record = last == nullptr ? base : partition.first.value() - alignment();
  Record fresh{};
  fresh.signature = mbr::boot_signature;
  disk.write(checked_mul(record, facts_.sector_size), bytes_of(fresh));
  write_entry(disk, record, 0, record, mbr::type_physical_volume, partition.first.value(),
              partition.end.value());
  if (last != nullptr)
    write_entry(disk, last->record_lba, 1, base, mbr::type_extended_chs, record,
                partition.end.value());
}

void MbrTable::write_entry(Store& disk, std::uint64_t record_lba, std::size_t index,
                           std::uint64_t base_lba, std::uint8_t type, std::uint64_t first,
                           std::uint64_t end) {
  const std::uint64_t at = checked_mul(record_lba, facts_.sector_size);
  auto record = read_as<Record>(disk, at);
  Entry& entry = record.entries[index];
  entry = {};
  entry.type = type;
  entry.start_lba = checked_cast<std::uint32_t>(first - base_lba);
  entry.sectors = checked_cast<std::uint32_t>(end - first);
  entry.start_chs = chs_of(first);
  entry.end_chs = chs_of(end - 1);
  disk.write(at, bytes_of(record));
}

void MbrTable::audit(Store& disk, Findings& findings) {
  for (const Error& blocker : facts_.blockers) findings.add(disk.name() + ", MBR", blocker.what());
}

}  // namespace jh
