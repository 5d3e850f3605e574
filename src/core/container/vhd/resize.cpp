// Growing and shrinking of VHD images.
#include <algorithm>

#include "core/container/relocate_tail.h"
#include "core/container/vhd/vhd.h"
#include "core/store/transfer.h"

namespace jh::vhd {

void VhdContainer::check_growth(Bytes new_size) {
  if (new_size.value() > most_bytes)
    refuse("a VHD disk reaches 2040 GiB at most", file_.name(), "recast it into another form");
}

Bytes VhdContainer::size_unit() {
  // Hosts that take fixed disks ask for whole MiB.
  return type() == Type::fixed ? 1_MiB : Bytes(sector);
}

// The table stays where it is as long as nothing stands behind it; else it moves to the end, with
// room for as much again.
void VhdContainer::grow_table(std::uint64_t entries) {
  const std::uint64_t at = header_.table_offset.value();
  const std::uint64_t room_end = [&] {
    std::uint64_t nearest = end_;
    for (const std::uint32_t entry : table_)
      if (entry != entry_absent && std::uint64_t{entry} * sector >= at)
        nearest = std::min(nearest, std::uint64_t{entry} * sector);
    const std::uint64_t header = footer_.header_offset.value();
    return header >= at ? std::min(nearest, header) : nearest;
  }();
  if (at + entries * 4 <= room_end) {
    file_.write(at + table_.size() * 4, Buffer((entries - table_.size()) * 4, 0xff));
    table_.resize(entries, entry_absent);
  } else {
    const std::uint64_t present = table_.size();
    table_.resize(entries, entry_absent);
    Buffer raw(round_up((entries + present) * 4, sector), 0xff);
    for (std::size_t i = 0; i < present; ++i) put_at(raw, i * 4, Be32(table_[i]));
    const std::uint64_t fresh = end_;
    file_.resize(std::max(file_.size(), fresh + raw.size() + sizeof(Footer)));
    file_.write_unreferenced(fresh, raw);
    header_.table_offset = fresh;
    end_ = fresh + raw.size();
  }
  header_.table_entries = checked_cast<std::uint32_t>(entries);
  seal_header();
}

void VhdContainer::grow(Bytes new_size) {
  const std::uint64_t old_end = end_;
  if (type() != Type::fixed) end_ = std::max(end_, end_of_last_block());
  if (type() == Type::fixed) {
    // The disk's new bytes begin where the footer was.
    file_.resize(new_size.value() + sizeof(Footer));
    file_.write(old_end, Buffer(sizeof(Footer)));
    end_ = new_size.value();
  } else if (const std::uint64_t entries = ceil_div(new_size.value(), block_size_);
             entries > table_.size()) {
    grow_table(entries);
  }
  set_size(new_size.value());
  write_footer(end_);
}

void VhdContainer::check_shrink(Bytes new_size) {
  if (type() == Type::differencing) Container::check_shrink(new_size);
}

void VhdContainer::shrink(Bytes new_size) {
  if (type() == Type::fixed) {
    end_ = new_size.value();
  } else {
    clear_tail(new_size.value());
    const std::uint64_t entries = ceil_div(new_size.value(), block_size_);
    file_.write(header_.table_offset.value() + entries * 4,
                Buffer((table_.size() - entries) * 4, 0xff));
    table_.resize(entries);
    bitmaps_.clear();
    header_.table_entries = checked_cast<std::uint32_t>(entries);
    seal_header();
  }
  set_size(new_size.value());
  if (type() != Type::fixed) {
    relocate_tail(UINT64_MAX);
    return;
  }
  write_footer(end_);
  file_.resize(end_ + sizeof(Footer));
}

std::uint64_t VhdContainer::relocate_tail(std::uint64_t most) {
  if (type() == Type::fixed) return 0;
  const std::uint64_t length = bitmap_size() + block_size_;
  const std::uint64_t header = footer_.header_offset.value();
  const std::uint64_t table = header_.table_offset.value();
  std::vector<PinnedRange> pinned{
      {0, sector},
      {header, header + sizeof(Header)},
      {table,
       table + round_up(std::max<std::uint64_t>(header_.table_entries.value(), 1) * 4, sector)}};
  for (const auto& [from, to] : locator_ranges()) pinned.push_back({from, to});
  std::vector<MovableBlock> movable;
  for (std::size_t i = 0; i < table_.size(); ++i)
    if (table_[i] != entry_absent) movable.push_back({std::uint64_t{table_[i]} * sector, i, 0});
  // Where all data lies as the host's blocks do, it stays so; images of others are packed closer.
  const bool aligned = std::all_of(movable.begin(), movable.end(), [&](const MovableBlock& block) {
    return (block.at + bitmap_size()) % share_alignment == 0;
  });
  const std::uint64_t step = aligned ? share_alignment : sector;
  const std::uint64_t first = round_up(sector + bitmap_size(), step) - bitmap_size();
  const auto moves = plan_tail_relocation(std::move(movable), pinned, first, length, step,
                                          std::max<std::uint64_t>(most / length, 1));
  copy_within(file_, moves, length);
  for (const MovableBlock& move : moves)
    set_entry(move.owner, checked_cast<std::uint32_t>(move.to / sector));
  bitmaps_.clear();
  std::uint64_t end = sector;
  for (const PinnedRange& range : pinned) end = std::max(end, range.end);
  for (const std::uint32_t entry : table_)
    if (entry != entry_absent) end = std::max(end, std::uint64_t{entry} * sector + length);
  write_footer(end);
  file_.resize(end_ + sizeof(Footer));
  return moves.size() * length;
}

void VhdContainer::set_size(std::uint64_t disk_size) {
  footer_.current_size = disk_size;
  const Geometry geometry = geometry_of(disk_size);
  footer_.cylinders = geometry.cylinders;
  footer_.heads = geometry.heads;
  footer_.sectors_per_track = geometry.sectors;
}

}  // namespace jh::vhd
