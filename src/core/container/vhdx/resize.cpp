// Growing and shrinking of VHDX images.
#include <algorithm>

#include "core/container/relocate_tail.h"
#include "core/container/vhdx/log.h"
#include "core/container/vhdx/vhdx.h"

namespace jh::vhdx {

void VhdxContainer::check_growth(Bytes new_size) {
  if (new_size.value() > most_bytes)
    refuse("a VHDX disk reaches 64 TiB at most", file_.name(), "recast it into another form");
}

void VhdxContainer::make_ready() {
  if (replayed_) {
    const LogReplay log = read_log(file_, structure_.header);
    if (file_.size() < log.file_size) file_.resize(log.file_size);
    replay(log, file_);
    replayed_.reset();
    structure_.header.log = {};
  }
  // Whoever writes to the file says so first, with new identities ("2.2.2 Headers").
  structure_.header.file_write = random_guid();
  structure_.header.data_write = random_guid();
  write_headers(file_, structure_);
  if (!structure_.notes.empty()) write_regions(file_, structure_);
}

void VhdxContainer::grow(Bytes new_size) {
  ensure(!replayed_, "the log is replayed before anything else");
  if (const std::uint64_t end = end_of_last_block(); end > file_.size()) file_.resize(end);
  const std::uint64_t old_bytes = structure_.entries_for(structure_.disk_size) * 8;
  const std::uint64_t bytes = structure_.entries_for(new_size.value()) * 8;
  if (bytes > structure_.bat.length) {
    const std::uint64_t at = round_up(file_.size(), unit);
    const std::uint64_t length =
        std::min<std::uint64_t>(round_up(bytes + bytes / 4, unit), round_down(UINT32_MAX, unit));
    file_.resize(at + length);
    for (std::uint64_t done = 0; done < old_bytes; done += unit) {
      const std::uint64_t step = std::min(unit, old_bytes - done);
      const Buffer part = read_buffer(file_, structure_.bat.offset + done, step);
      if (!all_zero(part)) file_.write_unreferenced(at + done, part);
    }
    structure_.bat = {at, length};
    for (RegionEntry& region : structure_.regions) {
      if (region.id != bat_region) continue;
      region.offset = at;
      region.length = static_cast<std::uint32_t>(length);
    }
    write_regions(file_, structure_);
  } else if (bytes > old_bytes) {
    write_zeros_where_needed(file_, structure_.bat.offset + old_bytes, bytes - old_bytes);
  }
  pages_.clear();
  structure_.disk_size = new_size.value();
  write_item(file_, structure_, disk_size_item, bytes_of(Le64(new_size.value())));
  if (is_fixed()) place_all();
}

void VhdxContainer::check_shrink(Bytes new_size) {
  if (below_) Container::check_shrink(new_size);
}

void VhdxContainer::shrink(Bytes new_size) {
  ensure(!replayed_, "the log is replayed before anything else");
  clear_tail(new_size.value());
  const std::uint64_t first = structure_.entries_for(new_size.value());
  const std::uint64_t entries = structure_.entries_for(structure_.disk_size);
  for (std::uint64_t i = first; i < entries; ++i) {
    if (entry(i) == 0)
      i = end_of_zeros(i) - 1;
    else
      set_entry(i, 0);
  }
  structure_.disk_size = new_size.value();
  write_item(file_, structure_, disk_size_item, bytes_of(Le64(new_size.value())));
  relocate_tail(UINT64_MAX);
}

std::uint64_t VhdxContainer::relocate_tail(std::uint64_t most) {
  std::vector<PinnedRange> pinned{{0, unit}};
  const std::uint64_t log = structure_.header.log_offset.value();
  pinned.push_back({log, log + structure_.header.log_length.value()});
  for (const RegionEntry& region : structure_.regions)
    pinned.push_back({region.offset.value(), region.offset.value() + region.length.value()});
  std::vector<MovableBlock> movable;
  for_each_place([&](std::uint64_t index, State, std::uint64_t at, bool is_bitmap) {
    if (is_bitmap)
      pinned.push_back({at, at + unit});  // of sectors, for blocks that are here in part
    else
      movable.push_back({at, index, 0});
  });
  std::uint64_t end = unit;
  for (const PinnedRange& range : pinned) end = std::max(end, range.end);
  const auto moves = plan_tail_relocation(movable, pinned, unit, block_size(), unit,
                                          std::max<std::uint64_t>(most / block_size(), 1));
  copy_within(file_, moves, block_size());
  for (const MovableBlock& move : moves)
    set_entry(move.owner, move.to | (entry(move.owner) & state_mask));
  for (const MovableBlock& block : movable) {
    const std::uint64_t at = entry(block.owner) & place_mask;
    end = std::max(end, at + block_size());
  }
  file_.resize(std::min(file_.size(), end));
  return moves.size() * block_size();
}

// Every block has its place; holes of the host's file will do.
void VhdxContainer::place_all() {
  std::uint64_t at = round_up(file_.size(), unit);
  for (std::uint64_t block = 0; block < structure_.blocks(); ++block) {
    const std::uint64_t index = structure_.entry_of(block);
    if (static_cast<State>(entry(index) & state_mask) == State::present) continue;
    set_entry(index, at | static_cast<std::uint64_t>(State::present));
    at += block_size();
  }
  if (at > file_.size()) file_.resize(at);
}

void VhdxContainer::set_allocation(Allocation allocation) {
  if (allocation == Allocation::compressed || below_) return Container::set_allocation(allocation);
  structure_.flags = (structure_.flags & ~leave_allocated) |
                     (allocation == Allocation::full ? leave_allocated : 0U);
  FileParameters parameters{};
  parameters.block_size = static_cast<std::uint32_t>(structure_.block_size);
  parameters.flags = structure_.flags;
  write_item(file_, structure_, file_parameters_item, bytes_of(parameters));
  if (allocation == Allocation::full) place_all();
}

}  // namespace jh::vhdx
