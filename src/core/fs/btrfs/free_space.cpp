#include "core/fs/btrfs/free_space.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/fs/btrfs/extents.h"

namespace jh::btrfs {
namespace {

// Of no chunk: its maker leaves an entry of one that it has given up. 1 is nobody's address.
std::uint64_t chunk_at(const Volume& volume, std::uint64_t address) {
  const auto next = volume.chunks().upper_bound(address);
  if (next == volume.chunks().begin()) return 1;
  const auto& [start, chunk] = *std::prev(next);
  return address - start < chunk.length ? start : 1;
}

void set_bits(Item& bitmap, const Ranges& free, std::uint64_t sector) {
  std::fill(bitmap.data.begin(), bitmap.data.end(), std::uint8_t{0});
  const std::uint64_t start = bitmap.key.object;
  for_each_inside(free, start, start + bitmap.key.offset,
                  [&](std::uint64_t from, std::uint64_t to) {
                    for (std::uint64_t at = from; at < to; at += sector) {
                      const std::uint64_t bit = (at - start) / sector;
                      if (bit / 8 >= bitmap.data.size())
                        corrupt("a bitmap of free space is cut off");
                      bitmap.data[bit / 8] |= static_cast<std::uint8_t>(1U << bit % 8);
                    }
                  });
}

// What the tree lists of one chunk.
class ChunkAudit {
 public:
  ChunkAudit(const Volume& volume, std::uint64_t logical, const Chunk& chunk, Findings& findings)
      : volume_(volume), logical_(logical), chunk_(chunk), findings_(findings) {}

  void run(const Root& root) {
    for_each_item(volume_, root, {logical_, 0, 0},
                  {logical_ + chunk_.length - 1, UINT8_MAX, UINT64_MAX},
                  [&](const Key& key, ConstByteSpan data) { take(key, data); });
    const std::string group = fmt::format("of the block group at {} it ", logical_);
    if (!has_info_) add(group + "says nothing");
    if (listed_ != free_in(volume_, logical_, chunk_))
      add(group + "lists other room than is free");
    else if (said_ != listed_.size())
      add(group + fmt::format("says {} free extents, and lists {}", said_, listed_.size()));
  }

 private:
  void add(const std::string& what) { findings_.add("btrfs, free space", what); }

  void take(const Key& key, ConstByteSpan data) {
    if (key.type == item::free_info && data.size() >= sizeof(FreeSpaceInfo)) {
      has_info_ = key.object == logical_ && key.offset == chunk_.length;
      said_ = parse_as<FreeSpaceInfo>(data, 0).extents.value();
      flags_ = parse_as<FreeSpaceInfo>(data, 0).flags.value();
    } else if (key.offset > chunk_.length - (key.object - logical_)) {
      add(fmt::format("what is free at {} leaves its block group", key.object));
    } else if (key.type != (flags_ == 0 ? item::free_extent : item::free_bitmap) ||
               flags_ > free_space_in_bitmaps) {
      add(fmt::format("what is free at {} is kept in another way than is said", key.object));
    } else if (key.type == item::free_extent) {
      if (overlaps(listed_, key.object, key.object + key.offset))
        add(fmt::format("what is free at {} is free twice", key.object));
      add_range(listed_, key.object, key.object + key.offset);
    } else if (key.type == item::free_bitmap) {
      const std::uint64_t sector = volume_.sector_size();
      for (std::uint64_t i = 0; i < key.offset / sector && i / 8 < data.size(); ++i)
        if ((data[i / 8] >> (i % 8) & 1) != 0)
          add_range(listed_, key.object + i * sector, key.object + (i + 1) * sector);
    }
  }

  const Volume& volume_;
  std::uint64_t logical_;
  const Chunk& chunk_;
  Findings& findings_;
  Ranges listed_;
  bool has_info_ = false;
  std::uint64_t said_ = 0;
  std::uint32_t flags_ = 0;
};

}  // namespace

Ranges free_in(const Volume& volume, std::uint64_t logical, const Chunk& chunk) {
  Ranges free;
  add_range(free, logical, logical + chunk.length);
  for_each_extent(volume, logical, logical + chunk.length, [&](const Extent& extent) {
    remove_range(free, extent.start, extent.start + extent.length);
  });
  return free;
}

void renew_free_space(const Volume& volume, std::vector<Item>& items,
                      const std::map<std::uint64_t, Ranges>& free,
                      const std::function<bool(std::uint64_t)>& given_up) {
  std::set<std::uint64_t> in_bitmaps;
  for (Item& one : items) {
    if (one.key.type != item::free_info) continue;
    if (one.data.size() < sizeof(FreeSpaceInfo)) corrupt("an entry of free space is cut off");
    auto info = parse_as<FreeSpaceInfo>(one.data, 0);
    if ((info.flags.value() & free_space_in_bitmaps) != 0) in_bitmaps.insert(one.key.object);
    const auto found = free.find(one.key.object);
    if (found == free.end()) continue;
    info.extents = checked_cast<std::uint32_t>(found->second.size());
    put_at(one.data, 0, info);
  }
  std::erase_if(items, [&](const Item& one) {
    const std::uint64_t chunk = chunk_at(volume, one.key.object);
    return given_up(chunk) || (one.key.type == item::free_extent && free.contains(chunk));
  });
  for (Item& one : items) {
    if (one.key.type != item::free_bitmap) continue;
    const auto found = free.find(chunk_at(volume, one.key.object));
    if (found != free.end()) set_bits(one, found->second, volume.sector_size());
  }
  for (const auto& [logical, ranges] : free)
    if (!in_bitmaps.contains(logical))
      for (const auto& [from, to] : ranges)
        items.push_back({{from, item::free_extent, to - from}, {}});
}

void audit_free_space(const Volume& volume, Findings& findings) {
  const auto root = volume.tree(object::free_space_tree);
  if (!root) corrupt("it has no tree of free space");
  // Also of block groups that its maker has given up: what is free lies in the one said before it.
  std::uint64_t end = 0;
  for_each_item(volume, *root, {}, {}, [&](const Key& key, ConstByteSpan) {
    if (key.type < item::free_info || key.type > item::free_bitmap)
      findings.add("btrfs, free space", "an item of an unknown kind");
    const bool begins = key.type == item::free_info;
    if (begins ? key.object < end : key.object > end || key.offset > end - key.object)
      findings.add("btrfs, free space",
                   fmt::format("the entry at {} does not suit those in front of it", key.object));
    if (begins) end = checked_add(key.object, key.offset);
  });
  for (const auto& [logical, chunk] : volume.chunks())
    ChunkAudit(volume, logical, chunk, findings).run(*root);
}

}  // namespace jh::btrfs
