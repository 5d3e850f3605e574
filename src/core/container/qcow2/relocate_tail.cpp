// Closing the gaps in a qcow2 file: data clusters, L2 tables and refcount blocks may lie anywhere.
#include <optional>

#include "core/container/qcow2/qcow2.h"

namespace jh::qcow2 {
namespace {

// What a block is: its kind in the upper bits, its number below.
constexpr std::uint64_t kind_shift = 60;
constexpr std::uint64_t data_cluster = 0, l2_table = 1, refcount_block = 2;

}  // namespace

// The list of L2 tables and that of blocks of counts lie in a row each. Where one of them is behind
// all that the file will have, and a row in front of it is free, it goes there: the file could not
// become shorter than where it ends.
void Qcow2Container::relocate_large_tables() {
  const std::uint64_t cluster = image_.cluster();
  const std::uint64_t clusters = ceil_div(file_.size(), cluster);
  std::uint64_t used = 0;
  for (std::uint64_t c = 0; c < clusters; ++c)
    if (refcounts().count(c) != 0) ++used;
  const auto place_for = [&](std::uint64_t at,
                             std::uint64_t length) -> std::optional<std::uint64_t> {
    const std::uint64_t first = at / cluster;
    if (at == 0 || length == 0 || first + length <= used) return {};
    std::uint64_t free = 0;
    for (std::uint64_t c = 0; c < first; ++c) {
      free = refcounts().count(c) == 0 ? free + 1 : 0;
      if (free == length) return (c + 1 - length) * cluster;
    }
    return {};
  };
  const std::uint64_t counted = image_.raw.refcount_table_clusters.value();
  if (const auto to = place_for(image_.raw.refcount_table_offset.value(), counted))
    refcounts().move_table(*to);
  const std::uint64_t old = image_.raw.l1_table_offset.value();
  const std::uint64_t length = ceil_div(l1_.size() * 8, cluster);
  const auto to = place_for(old, length);
  if (!to) return;
  Buffer raw(length * cluster);
  for (std::size_t i = 0; i < l1_.size(); ++i) put_at(raw, i * 8, Be64(l1_[i]));
  file_.write_unreferenced(*to, raw);
  refcounts().set_run(*to / cluster, length, 1);
  image_.raw.l1_table_offset = *to;
  write_header(file_, image_);
  refcounts().set_run(old / cluster, length, 0);
}

std::uint64_t Qcow2Container::relocate_tail(std::uint64_t most) {
  const std::uint64_t cluster = image_.cluster();
  relocate_large_tables();
  std::vector<MovableBlock> movable;
  const auto add = [&](std::uint64_t at, std::uint64_t kind, std::uint64_t number) {
    movable.push_back({at, kind << kind_shift | number, 0});
  };
  for (std::uint64_t index = 0; index < l1_.size(); ++index) {
    const std::uint64_t at = l1_[index] & offset_mask;
    if (at == 0) continue;
    // What a snapshot has too stays where it is.
    if (is_shared(at)) continue;
    add(at, l2_table, index);
    if (data_ != nullptr) continue;
    for (std::uint64_t i = 0; i < image_.entries_per_table(); ++i) {
      const std::uint64_t number = index * image_.entries_per_table() + i;
      const Entry entry = entry_of(number);
      if ((entry.place & compressed_bit) == 0 && (entry.place & offset_mask) != 0 &&
          !is_shared(entry.place & offset_mask))
        add(entry.place & offset_mask, data_cluster, number);
    }
  }
  const auto& blocks = refcounts().table();
  for (std::uint64_t i = 0; i < blocks.size(); ++i)
    if (blocks[i] != 0) add(blocks[i], refcount_block, i);
  // All else that is counted stays: the header, the large tables, compressed clusters, bitmaps.
  std::sort(movable.begin(), movable.end(),
            [](const MovableBlock& a, const MovableBlock& b) { return a.at < b.at; });
  std::vector<PinnedRange> pinned;
  std::size_t next = 0;
  for (std::uint64_t at = 0; at < file_.size(); at += cluster) {
    while (next < movable.size() && movable[next].at < at) ++next;
    if (next < movable.size() && movable[next].at == at) continue;
    if (refcounts().count(at / cluster) == 0) continue;
    if (!pinned.empty() && pinned.back().end == at)
      pinned.back().end += cluster;
    else
      pinned.push_back({at, at + cluster});
  }
  const auto moves = plan_tail_relocation(std::move(movable), std::move(pinned), 0, cluster,
                                          cluster, std::max<std::uint64_t>(most / cluster, 1));
  std::vector<MovableBlock> content;
  for (const MovableBlock& move : moves)
    if (move.owner >> kind_shift == data_cluster) content.push_back(move);
  copy_within(file_, content, cluster);
  for (std::size_t i = 0; i < moves.size();) {
    // What was in a row, in the disk and in the file, and is so again, is told at once.
    std::size_t count = 1;
    while (i + count < moves.size() && moves[i].owner >> kind_shift == data_cluster &&
           moves[i + count].owner == moves[i].owner + count &&
           moves[i + count].at == moves[i].at + count * cluster &&
           moves[i + count].to == moves[i].to + count * cluster &&
           moves[i].to + (count + 1) * cluster <= moves[i].at)
      ++count;
    move_clusters(moves[i], count);
    i += count;
  }
  cut_file();
  return moves.size() * cluster;
}

// Clusters of the disk in a row, or one block of tables.
void Qcow2Container::move_clusters(const MovableBlock& block, std::uint64_t count) {
  const std::uint64_t number = block.owner & ((1ULL << kind_shift) - 1);
  const std::uint64_t kind = block.owner >> kind_shift;
  if (kind == refcount_block) {
    refcounts().move_block(number, block.to);
    return;
  }
  if (kind == l2_table) file_.write_unreferenced(block.to, *table(number));
  refcounts().set_run(block.to / image_.cluster(), count, 1);
  if (kind == l2_table) {
    l1_[number] = block.to | copied;
    file_.write(image_.raw.l1_table_offset.value() + number * 8, bytes_of(Be64(l1_[number])));
  } else {
    std::vector<Entry> fresh(count);
    for (std::uint64_t i = 0; i < count; ++i) {
      const Entry old = entry_of(number + i);
      const std::uint64_t to = block.to + i * image_.cluster();
      fresh[i] = {(old.place & ~offset_mask) | to | copied, old.bitmap};
    }
    set_entries(number, fresh);
  }
  refcounts().release_run(block.at / image_.cluster(), count);
}

}  // namespace jh::qcow2
