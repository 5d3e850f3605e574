// What changes a GPT: both copies and the protective MBR are written anew each time.
#include <fmt/format.h>

#include <algorithm>

#include "core/base/checksum.h"
#include "core/table/gpt/gpt.h"
#include "core/table/mbr/format.h"

namespace jh {

using gpt::Entry;

void GptTable::cover_disk(Store& disk) {
  set_limits(disk);
  if (!must_move_spare()) return;
  wipe_old_spare(disk);
  backup_lba_ = last_lba_;
  header_.alternate_lba = last_lba_;
  header_.last_usable_lba = last_lba_ - array_sectors() - 1;
  set_limits(disk);
  write_all(disk);
}

// The old backup copy would stand in the middle of somebody's partition one day.
void GptTable::wipe_old_spare(Store& disk) {
  if (!backup_good_ || backup_lba_ >= last_lba_) return;
  const std::uint32_t sector = facts_.sector_size;
  const auto old = read_copy(disk, backup_lba_, sector);
  if (!old.good()) return;
  const std::uint64_t array_lba = old.header.entries_lba.value();
  const std::uint64_t length = ceil_div(old.entries.size(), sector);
  const auto outside_all = [&](std::uint64_t first, std::uint64_t count) {
    return std::none_of(facts_.partitions.begin(), facts_.partitions.end(), [&](const auto& p) {
      return p.first.value() < first + count && first < p.end().value();
    });
  };
  if (array_lba > 1 + array_sectors() && outside_all(array_lba, length))
    disk.write(array_lba * sector, Buffer(length * sector));
  if (outside_all(backup_lba_, 1)) disk.write(backup_lba_ * sector, Buffer(sector));
}

void GptTable::move_end(Store& disk, std::uint32_t number, Sectors new_end) {
  for (Partition& partition : facts_.partitions) {
    if (partition.number != number) continue;
    ensure(new_end > partition.first && new_end <= reach(partition),
           "a partition ends behind its beginning, and grows into free sectors only");
    const std::size_t at = std::size_t{number - 1} * header_.entry_size.value();
    auto entry = parse_as<Entry>(entries_, at);
    entry.last_lba = new_end.value() - 1;
    put_at(entries_, at, entry);
    partition.count = new_end - partition.first;
    write_all(disk);
    return;
  }
  ensure(false, "the partition is in the table");
}

void GptTable::move(Store& disk, std::uint32_t number, Sectors first, Sectors end) {
  for (Partition& partition : facts_.partitions) {
    if (partition.number != number) continue;
    const std::size_t at = std::size_t{number - 1} * header_.entry_size.value();
    auto entry = parse_as<Entry>(entries_, at);
    entry.first_lba = first.value();
    entry.last_lba = end.value() - 1;
    put_at(entries_, at, entry);
    partition.first = first;
    partition.count = end - first;
    write_all(disk);
    return;
  }
  ensure(false, "the partition is in the table");
}

NewPartition GptTable::place_new(const std::vector<Partition>& among, Bytes disk_size) const {
  const auto [first, end] = largest_room(gaps(among, usable_end_on(disk_size)));
  if (first == end)
    refuse("the disk has no room for a new partition", "GPT", "make the disk larger (--by SIZE)");
  for (std::uint32_t number = 1; number <= header_.entry_count.value(); ++number)
    if (find_in(among, number) == nullptr) return {number, PartitionRole::primary, first, end};
  refuse(fmt::format("the GPT has no entry left for a new partition (all {} are used)",
                     header_.entry_count.value()),
         "GPT", "remove a partition in the guest first");
}

void GptTable::create(Store& disk, const NewPartition& partition, const Uuid& id) {
  const std::size_t at = std::size_t{partition.number - 1} * header_.entry_size.value();
  ensure(is_zero(parse_as<Entry>(entries_, at).type), "a new partition gets an empty entry");
  Entry entry{};
  entry.type = gpt::type_physical_volume;
  entry.id = id;
  entry.first_lba = partition.first.value();
  entry.last_lba = partition.end.value() - 1;
  put_at(entries_, at, entry);
  write_all(disk);
  facts_.partitions.clear();
  read_partitions();
}

void GptTable::repair(Store& disk) {
  write_all(disk);
  facts_.repairs.clear();
}

void GptTable::write_all(Store& disk) {
  const std::uint32_t sector = facts_.sector_size;
  header_.entries_crc = crc32(entries_);
  const auto write_copy = [&](std::uint64_t lba, std::uint64_t alternate, std::uint64_t array_lba) {
    Buffer array(entries_);
    array.resize(array_sectors() * sector);
    disk.write(array_lba * sector, array);
    // Bytes behind the fields we know are reserved and zero; the checksum covers header_size.
    Buffer block(sector);
    header_.my_lba = lba;
    header_.alternate_lba = alternate;
    header_.entries_lba = array_lba;
    header_.header_crc = 0;
    put_at(block, 0, header_);
    header_.header_crc = crc32(ConstByteSpan(block).first(header_.header_size.value()));
    put_at(block, 0, header_);
    disk.write(lba * sector, block);
  };
  const std::uint64_t primary_array = header_.entries_lba.value();
  write_copy(last_lba_, 1, last_lba_ - array_sectors());
  write_copy(1, last_lba_, primary_array);
  write_protective_mbr(disk);
  backup_good_ = true;
  backup_array_lba_ = last_lba_ - array_sectors();
  backup_lba_ = last_lba_;
}

void GptTable::write_protective_mbr(Store& disk) {
  auto record = read_as<mbr::Record>(disk, 0);
  const auto covered = static_cast<std::uint32_t>(std::min<std::uint64_t>(last_lba_, UINT32_MAX));
  mbr::Entry* entry = nullptr;
  for (mbr::Entry& candidate : record.entries)
    if (candidate.type == mbr::type_protective) entry = &candidate;
  if (entry == nullptr || record.signature.value() != mbr::boot_signature) {
    record.entries = {};
    entry = &record.entries[0];
    entry->start_chs = {0x00, 0x02, 0x00};
    entry->type = mbr::type_protective;
    entry->end_chs = {0xFF, 0xFF, 0xFF};
    entry->start_lba = 1;
    record.signature = mbr::boot_signature;
  }
  entry->sectors = covered;
  disk.write(0, bytes_of(record));
}

}  // namespace jh
