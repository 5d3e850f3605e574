#include "core/table/gpt/gpt.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/store/utf16.h"
#include "core/table/mbr/format.h"

namespace jh {

using gpt::Entry;
using gpt::Header;

namespace {

constexpr std::uint64_t max_array_bytes = 4U << 20;  // 16,384 entries of the usual size are 2 MiB

std::uint32_t header_crc(Store& disk, std::uint64_t at, Header header) {
  const std::uint32_t size = header.header_size.value();
  Buffer raw = read_buffer(disk, at, size);
  header.header_crc = 0;
  put_at(raw, 0, header);
  return crc32(raw);
}

bool has_signature(Store& disk, std::uint64_t at) {
  return at + sizeof(Header) <= disk.size() &&
         read_as<Header>(disk, at).signature == gpt::signature;
}

}  // namespace

GptTable::Copy GptTable::read_copy(Store& disk, std::uint64_t lba, std::uint32_t sector) {
  GptTable::Copy copy;
  if (lba >= disk.size() / sector) {
    copy.defect = fmt::format("sector {} lies past the end of the disk", lba);
    return copy;
  }
  const std::uint64_t at = lba * sector;
  copy.header = read_as<Header>(disk, at);
  const Header& h = copy.header;
  const std::uint64_t sectors = disk.size() / sector;
  const std::uint64_t array = std::uint64_t{h.entry_count.value()} * h.entry_size.value();
  if (h.signature != gpt::signature) {
    copy.defect = "no signature";
  } else if (h.header_size.value() < gpt::min_header_size || h.header_size.value() > sector) {
    copy.defect = fmt::format("header size {} is not possible", h.header_size.value());
  } else if (header_crc(disk, at, h) != h.header_crc.value()) {
    copy.defect = "the header's checksum is wrong";
  } else if (h.my_lba.value() != lba) {
    copy.defect = fmt::format("the header says it stands at sector {}", h.my_lba.value());
  } else if (h.entry_size.value() < gpt::min_entry_size || h.entry_size.value() % 128 != 0 ||
             !is_power_of_two(h.entry_size.value()) || h.entry_count.value() == 0 ||
             array > max_array_bytes) {
    copy.defect = fmt::format("{} entries of {} bytes are not possible", h.entry_count.value(),
                              h.entry_size.value());
  } else if (h.entries_lba.value() >= sectors ||
             ceil_div(array, sector) > sectors - h.entries_lba.value()) {
    copy.defect = "the entry array lies past the end of the disk";
  } else if (h.first_usable_lba.value() > h.last_usable_lba.value()) {
    copy.defect = "the usable range is empty";
  } else {
    copy.entries = read_buffer(disk, h.entries_lba.value() * sector, array);
    if (crc32(copy.entries) != h.entries_crc.value())
      copy.defect = "the entry array's checksum is wrong";
  }
  return copy;
}

std::unique_ptr<PartitionTable> open_gpt(Store& disk, std::uint32_t sector_size) {
  std::vector<std::uint32_t> sizes{512, 4096};
  if (sector_size != 0) sizes = {sector_size};
  const auto record = read_as<mbr::Record>(disk, 0);
  const bool protective =
      record.signature.value() == mbr::boot_signature &&
      std::any_of(record.entries.begin(), record.entries.end(),
                  [](const mbr::Entry& entry) { return entry.type == mbr::type_protective; });
  const bool other_mbr =
      !protective && record.signature.value() == mbr::boot_signature &&
      std::any_of(record.entries.begin(), record.entries.end(), [](const mbr::Entry& entry) {
        return entry.type != mbr::type_empty && entry.sectors.value() != 0;
      });
  std::string defects;
  for (const std::uint32_t sector : sizes) {
    const std::uint64_t sectors = disk.size() / sector;
    if (sectors < 8) continue;
    const bool primary_there = has_signature(disk, sector);
    const bool spare_there = has_signature(disk, (sectors - 1) * sector);
    // A backup copy without a protective MBR and without a primary is a leftover of an older table.
    if (!primary_there && !(spare_there && protective)) continue;
    if (!primary_there && other_mbr) continue;
    GptTable::Copy primary = GptTable::read_copy(disk, 1, sector);
    const std::uint64_t backup_lba =
        primary.good() ? primary.header.alternate_lba.value() : sectors - 1;
    GptTable::Copy backup = GptTable::read_copy(disk, backup_lba, sector);
    if (!primary.good() && !backup.good()) {
      defects = fmt::format("primary: {}; backup: {}", primary.defect, backup.defect);
      continue;
    }
    auto table = std::make_unique<GptTable>(disk, sector, std::move(primary), std::move(backup));
    return table;
  }
  if (!defects.empty() || protective)
    damaged("both copies of the GPT are damaged" + (defects.empty() ? "" : " (" + defects + ")"),
            disk.name(), "restore the partition table from a backup; nothing can be done here");
  return nullptr;
}

namespace {
constexpr std::uint32_t new_entries = 128;  // as many as the specification asks for at least
}

std::pair<Sectors, Sectors> usable_by_new_gpt(Bytes disk_size, std::uint32_t sector_size) {
  const std::uint64_t last = std::max<std::uint64_t>(disk_size.value() / sector_size, 1) - 1;
  const std::uint64_t array = ceil_div(std::uint64_t{new_entries} * sizeof(Entry), sector_size);
  if (last < 4 * array) refuse("the disk is too small for a GPT", {}, "use at least 4 MiB");
  return {Sectors(2 + array), Sectors(last - array)};
}

std::unique_ptr<PartitionTable> make_gpt(Store& disk, std::uint32_t sector_size) {
  GptTable::Copy copy;
  const auto [first, end] = usable_by_new_gpt(Bytes(disk.size()), sector_size);
  Header& header = copy.header;
  header.signature = gpt::signature;
  header.revision = gpt::revision;
  header.header_size = sizeof(Header);
  header.my_lba = 1;
  header.alternate_lba = disk.size() / sector_size - 1;
  header.first_usable_lba = first.value();
  header.last_usable_lba = end.value() - 1;
  header.disk_guid = random_guid();
  header.entries_lba = 2;
  header.entry_count = new_entries;
  header.entry_size = sizeof(Entry);
  copy.entries.resize(std::size_t{new_entries} * sizeof(Entry));
  auto table = std::make_unique<GptTable>(disk, sector_size, copy, copy);
  table->repair(disk);
  return table;
}

GptTable::GptTable(Store& disk, std::uint32_t sector_size, Copy primary, Copy backup) {
  facts_.kind = TableKind::gpt;
  facts_.sector_size = sector_size;
  last_lba_ = disk.size() / sector_size - 1;
  const bool from_primary = primary.good();
  header_ = from_primary ? primary.header : backup.header;
  entries_ = from_primary ? std::move(primary.entries) : std::move(backup.entries);
  backup_good_ = backup.good();
  backup_array_lba_ = backup.header.entries_lba.value();
  backup_lba_ = from_primary ? header_.alternate_lba.value() : header_.my_lba.value();
  if (!from_primary) {
    facts_.repairs.push_back(
        fmt::format("the first copy of the GPT is damaged ({}); the backup copy was read instead",
                    primary.defect));
    header_.my_lba = 1;
    header_.entries_lba = 2;
    if (2 + array_sectors() > header_.first_usable_lba.value())
      facts_.blockers.emplace_back(Status::unsupported,
                                   "the first copy's entry array has no room at its usual place",
                                   disk.name(), "repair the table in the guest's rescue system");
  } else if (!backup.good()) {
    facts_.repairs.push_back(
        fmt::format("the backup copy of the GPT is damaged ({})", backup.defect));
  } else if (backup.entries.size() != entries_.size() ||
             std::memcmp(backup.entries.data(), entries_.data(), entries_.size()) != 0) {
    facts_.repairs.push_back("the two copies of the GPT differ; the first one counts");
  }
  facts_.id = guid_text(header_.disk_guid);
  set_limits(disk);
  check_protective_mbr(disk);
  read_partitions();
  check_layout(disk.name());
  const std::uint64_t first = header_.first_usable_lba.value();
  for (const Partition& p : facts_.partitions)
    if (p.first.value() < first)
      facts_.blockers.emplace_back(
          Status::damaged,
          fmt::format("partition {} begins at sector {}, before the first usable one ({})",
                      p.number, p.first.value(), first),
          disk.name(), "put the table right in the guest's rescue system");
}

std::uint64_t GptTable::array_sectors() const {
  const std::uint64_t bytes =
      std::uint64_t{header_.entry_count.value()} * header_.entry_size.value();
  return ceil_div(bytes, facts_.sector_size);
}

Ranges GptTable::own_places() const {
  const std::uint64_t sector = facts_.sector_size;
  Ranges places;
  add_range(places, mbr::entries_at, mbr::sector_bytes);  // of the protective MBR
  const auto add = [&](std::uint64_t lba, std::uint64_t count) {
    add_range(places, lba * sector, (lba + count) * sector);
  };
  add(1, 1);
  add(header_.entries_lba.value(), array_sectors());
  // A backup copy that is damaged is written anew, where the first one says that it is.
  if (backup_good_ || (backup_lba_ > array_sectors() && backup_lba_ <= last_lba_)) {
    add(backup_lba_, 1);
    add(backup_good_ ? backup_array_lba_ : backup_lba_ - array_sectors(), array_sectors());
  }
  return places;
}

bool GptTable::must_move_spare() const { return backup_lba_ != last_lba_; }

Sectors GptTable::usable_end_on(Bytes disk_size) const {
  const std::uint64_t last = std::max<std::uint64_t>(disk_size.value() / facts_.sector_size, 1) - 1;
  if (backup_lba_ == last) return Sectors(checked_add(header_.last_usable_lba.value(), 1));
  return Sectors(std::max(last - std::min(last, array_sectors()), std::uint64_t{1}));
}

void GptTable::set_limits(Store& disk) {
  last_lba_ = disk.size() / facts_.sector_size - 1;
  facts_.disk = Sectors(last_lba_ + 1);
  facts_.first_usable = Sectors(header_.first_usable_lba.value());
  facts_.known_end = Sectors(checked_add(header_.last_usable_lba.value(), 1));
  facts_.usable_end = usable_end_on(Bytes(disk.size()));
}

void GptTable::check_protective_mbr(Store& disk) {
  const auto record = read_as<mbr::Record>(disk, 0);
  std::size_t protective = 0;
  std::size_t others = 0;
  for (const mbr::Entry& entry : record.entries) {
    if (entry.type == mbr::type_protective) {
      ++protective;
    } else if (entry.type != mbr::type_empty) {
      ++others;
    }
  }
  if (record.signature.value() != mbr::boot_signature || (protective == 0 && others == 0)) {
    facts_.repairs.emplace_back("the protective MBR in front of the GPT is missing");
  } else if (others != 0) {
    facts_.blockers.emplace_back(
        Status::unsupported,
        "this is a hybrid table: MBR and GPT both describe partitions, each in its own way",
        disk.name(),
        "make it a plain GPT in the guest first; which of the two counts must not be guessed");
  }
}

void GptTable::read_partitions() {
  const std::uint32_t size = header_.entry_size.value();
  for (std::uint32_t i = 0; i < header_.entry_count.value(); ++i) {
    const auto entry = parse_as<Entry>(entries_, std::size_t{i} * size);
    if (is_zero(entry.type)) continue;
    Partition partition;
    partition.number = i + 1;
    partition.type_code = guid_text(entry.type);
    const PartitionType type = gpt_type(partition.type_code);
    partition.type_name = type.name;
    partition.purpose = type.purpose;
    partition.label = text_from_utf16(bytes_of(entry.name), /*big_endian=*/false);
    partition.part_uuid = guid_text(entry.id);
    partition.first = Sectors(entry.first_lba.value());
    if (entry.last_lba.value() < entry.first_lba.value() ||
        entry.last_lba.value() >= facts_.disk.value()) {
      facts_.blockers.emplace_back(
          Status::damaged,
          fmt::format("partition {} goes from sector {} to {}, which is not possible on this disk",
                      partition.number, entry.first_lba.value(), entry.last_lba.value()),
          std::string{}, "put the table right in the guest's rescue system");
      continue;
    }
    partition.count = Sectors(entry.last_lba.value() - entry.first_lba.value() + 1);
    facts_.partitions.push_back(partition);
  }
}

void GptTable::audit(Store& disk, Findings& findings) {
  const std::string where = disk.name() + ", GPT";
  for (const std::string& repair : facts_.repairs) findings.add(where, repair);
  for (const Error& blocker : facts_.blockers) findings.add(where, blocker.what());
}

}  // namespace jh
