#include <fmt/format.h>

#include <algorithm>

#include "core/fs/ext/relocate_parts.h"

namespace jh::ext {

void no_room(std::uint64_t count) {
  refuse(fmt::format("{} blocks in a row are not free to move what is in the way", count),
         "ext filesystem", "ask for less, or free some space inside the guest first");
}

std::uint64_t ToVacate::stretch(std::uint64_t block, std::uint64_t most) const {
  const auto next = blocks.upper_bound(block);
  if (next != blocks.begin() && std::prev(next)->second > block)
    return std::min(most, std::prev(next)->second - block);
  return next == blocks.end() ? most : std::min(most, next->first - block);
}

void MetadataMover::plan() {
  const std::uint32_t groups = std::min(to_vacate_.group_end, g_.group_count);
  for (std::uint32_t number = 0; number < groups; ++number) {
    const Group group = fs_.group(number);
    for (std::uint64_t Group::*field : {&Group::block_bitmap, &Group::inode_bitmap})
      if (to_vacate_.contains(group.*field, 1))
        items_.push_back({number, field, group.*field, 0, 1});
    if (to_vacate_.contains(group.inode_table, g_.itable_blocks))
      items_.push_back({number, &Group::inode_table, group.inode_table, 0, g_.itable_blocks});
  }
  for (Item& item : items_) {
    item.to = find_place(item);
    if (!fixed_.empty()) add_range(fixed_, item.to, item.to + item.count);
  }
}

std::uint64_t MetadataMover::find_place(const Item& item) {
  const std::uint64_t first = g_.group_first(item.group);
  std::vector<BlockRange> elsewhere;
  if (!g_.has_incompat(incompat::flex_bg)) {  // then metadata must stay in its own group
    const std::uint64_t end = group_end(item.group);
    elsewhere = {{0, first}, {end, g_.blocks - end}};
  }
  const auto found = allocation_.allocate(item.count, first, elsewhere);
  return found ? *found : evict(item);
}

std::uint64_t MetadataMover::group_end(std::uint32_t number) const {
  return std::min(g_.group_first(number) + g_.group_blocks(number), to_vacate_.block_end);
}

void MetadataMover::note_fixed() {
  const auto add = [&](std::uint64_t start, std::uint64_t count) {
    if (count != 0) add_range(fixed_, start, start + count);
  };
  const std::uint32_t groups = std::min(to_vacate_.group_end, g_.group_count);
  for (std::uint32_t number = 0; number < groups; ++number) {
    const Group group = fs_.group(number);
    for (const BlockRange& run : g_.base_metadata(number)) add(run.start, run.count);
    add(group.block_bitmap, 1);
    add(group.inode_bitmap, 1);
    add(group.inode_table, g_.itable_blocks);
  }
  for (const auto& [start, end] : to_vacate_.blocks) add(start, end - start);
  for (const Item& item : items_)
    if (item.to != 0) add(item.to, item.count);
}

// What in [start, end) cannot make room for this item.
Ranges MetadataMover::barriers(const Item& item, std::uint64_t start, std::uint64_t end) const {
  Ranges out;
  const auto add = [&](std::uint64_t from, std::uint64_t to) {
    if (from < to) add_range(out, from, to);
  };
  // It may take blocks of its own old place, but for those in the way.
  const std::uint64_t own = item.from;
  const std::uint64_t own_end = item.from + item.count;
  for_each_inside(fixed_, start, end, [&](std::uint64_t from, std::uint64_t to) {
    add(from, std::min(to, std::max(from, own)));
    add(std::max(from, std::min(to, own_end)), to);
  });
  for_each_inside(to_vacate_.blocks, std::max(start, own), std::min(end, own_end), add);
  return out;
}

// Files make room: they may live anywhere, and in as many pieces as it takes.
std::uint64_t MetadataMover::evict(const Item& item) {
  if (fixed_.empty()) note_fixed();
  const std::uint32_t groups = std::min(to_vacate_.group_end, g_.group_count);
  const std::uint32_t tries = g_.has_incompat(incompat::flex_bg) ? groups : 1;
  const std::uint64_t length = round_up(item.count, g_.cluster_ratio);
  for (std::uint32_t i = 0; i < tries; ++i) {
    const std::uint32_t number = (item.group + i) % groups;
    const std::uint64_t first = g_.group_first(number);
    const std::uint64_t end = group_end(number);
    Ranges taken = barriers(item, first, end);
    taken[end] = end;
    std::uint64_t from = first;
    for (const auto& [start, stop] : taken) {
      if (start >= from + length) {
        add_range(to_vacate_.blocks, from, from + item.count);
        allocation_.keep({from, item.count});
        return from;
      }
      from = first + round_up(stop - first, g_.cluster_ratio);
    }
  }
  no_room(item.count);
}

void MetadataMover::release_old() {
  for (const Item& item : items_)
    for (std::uint64_t block = item.from; block < item.from + item.count; ++block)
      if (!to_vacate_.contains(block, 1) && (block < item.to || block >= item.to + item.count))
        allocation_.release(block, 1);
}

void MetadataMover::move() {
  for (const Item& item : items_) {
    // Read as a whole before it is written: old and new place may overlap.
    const Buffer content =
        read_buffer(fs_.store(), g_.offset(item.from), item.count * g_.block_size);
    fs_.store().write(g_.offset(item.to), content);
    Group group = fs_.group(item.group);
    group.*item.field = item.to;
    fs_.set_group(item.group, group);
  }
  for (const Item& item : items_) write_first_descriptor(fs_, item.group);
}

std::uint64_t MetadataMover::blocks() const {
  std::uint64_t sum = 0;
  for (const Item& item : items_) sum += item.count;
  return sum;
}

}  // namespace jh::ext
