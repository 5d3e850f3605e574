#include "core/fs/btrfs/audit.h"

#include <fmt/format.h>

#include <map>

#include "core/base/ranges.h"
#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

void audit_superblocks(const Volume& volume, Findings& findings) {
  for (std::size_t i = 1; i < superblock_places.size(); ++i) {
    const std::uint64_t at = superblock_places[i];
    if (at + sizeof(Superblock) > volume.size()) continue;
    Buffer bytes = read_buffer(volume.place(), at, sizeof(Superblock));
    const auto copy = parse_as<Superblock>(bytes, 0);
    const std::string where = fmt::format("btrfs, superblock {}", i + 1);
    if (block_checksum(volume.checksums(), bytes) != copy.checksum ||
        copy.magic != volume.super().magic) {
      findings.add(where, "its checksum is wrong");
      continue;
    }
    if (copy.address.value() != at) findings.add(where, "it says that it lies elsewhere");
    Superblock first = volume.super();
    first.address = copy.address.value();
    first.checksum = copy.checksum;
    if (std::memcmp(&first, &copy, sizeof(first)) != 0)
      findings.add(where, "it differs from the first one");
  }
}

// Each copy of a chunk is an extent of the device, and nothing else is.
void audit_device(const Volume& volume, Findings& findings) {
  std::map<std::uint64_t, std::pair<std::uint64_t, std::uint64_t>> expected;  // → length, chunk
  std::uint64_t used = 0;
  Ranges taken;
  for (const auto& [logical, chunk] : volume.chunks())
    for (const std::uint64_t copy : chunk.copies) {
      if (overlaps(taken, copy, copy + chunk.length))
        findings.add("btrfs, chunks", fmt::format("the chunk at {} lies on another one", logical));
      add_range(taken, copy, copy + chunk.length);
      expected[copy] = {chunk.length, logical};
      used += chunk.length;
    }
  const auto root = volume.tree(object::device_tree);
  if (!root) corrupt("it has no tree of the device's extents");
  const std::uint64_t own = volume.super().device.id.value();
  for_each_item(volume, *root, {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.type != item::device_extent) return;
    if (data.size() < sizeof(DeviceExtent)) corrupt("a device's extent is cut off");
    const auto extent = parse_as<DeviceExtent>(data, 0);
    const auto found = expected.find(key.offset);
    const bool same = key.object == own && found != expected.end() &&
                      found->second.first == extent.length.value() &&
                      found->second.second == extent.chunk.value();
    if (!same)
      findings.add("btrfs, device", fmt::format("the extent at {} is of no chunk", key.offset));
    else
      expected.erase(found);
  });
  for (const auto& [at, chunk] : expected)
    findings.add("btrfs, device",
                 fmt::format("the chunk at {} has no extent at {}", chunk.second, at));
  const DeviceItem& super = volume.super().device;
  if (super.used.value() != used)
    findings.add("btrfs, superblock",
                 fmt::format("chunks take {} bytes of the device, but it says {}", used,
                             super.used.value()));
  if (volume.super().size.value() != volume.size())
    findings.add("btrfs, superblock", "its size is not that of its device");
  bool any = false;
  for_each_item(
      volume, volume.chunk_tree(), {object::devices, item::device, 0},
      {object::devices, item::device, UINT64_MAX}, [&](const Key& key, ConstByteSpan data) {
        any = true;
        DeviceItem item{};
        if (data.size() != sizeof(item) || key.offset != own) {
          findings.add("btrfs, chunks", "an item of a device that is not there");
          return;
        }
        item = parse_as<DeviceItem>(data, 0);
        if (std::memcmp(&item, &super, sizeof(item)) != 0)
          findings.add("btrfs, chunks", "the device's item is not what the superblock has");
      });
  if (!any) findings.add("btrfs, chunks", "the device has no item");
}

void audit_groups(const Volume& volume, Findings& findings) {
  auto expected = volume.chunks();
  std::uint64_t used = 0;
  for_each_block_group(volume, [&](const BlockGroup& group) {
    used += group.used;
    const auto found = expected.find(group.start);
    if (found == expected.end() || found->second.length != group.length ||
        found->second.type != group.flags)
      findings.add("btrfs, block groups",
                   fmt::format("the group at {} is of no chunk", group.start));
    if (group.used > group.length)
      findings.add("btrfs, block groups",
                   fmt::format("the group at {} uses more than it has", group.start));
    if (found != expected.end()) expected.erase(found);
  });
  for (const auto& [logical, chunk] : expected)
    findings.add("btrfs, block groups", fmt::format("the chunk at {} has no group", logical));
  if (used != volume.super().used.value())
    findings.add("btrfs, superblock", fmt::format("the block groups use {} bytes, but it says {}",
                                                  used, volume.super().used.value()));
}

using Items = std::map<Key, Buffer>;

Items items_of(const Volume& volume, const Root& root) {
  Items items;
  for_each_item(volume, root, {}, {}, [&](const Key& key, ConstByteSpan data) {
    items[key] = Buffer(data.begin(), data.end());
  });
  return items;
}

// Where chunks lie, and how much of the device they take, is compared by the audit with the
// device's extents; what is in them by the trees.
void forget_places(Items& items) {
  for (auto& [key, data] : items) {
    if (key.type == item::device && data.size() >= sizeof(DeviceItem)) {
      put_at(data, offsetof(DeviceItem, size), Le64(0));
      put_at(data, offsetof(DeviceItem, used), Le64(0));
    }
    if (key.type != item::chunk) continue;
    for (std::size_t at = sizeof(ChunkItem); at + sizeof(Stripe) <= data.size();
         at += sizeof(Stripe))
      put_at(data, at + offsetof(Stripe, offset), Le64(0));
  }
}

void audit_kept_items(const Volume& before, const Volume& after, bool chunks_move,
                      Findings& findings) {
  Items was = items_of(before, before.chunk_tree());
  Items now = items_of(after, after.chunk_tree());
  if (!chunks_move)
    for (const auto& [logical, chunk] : before.chunks()) {
      const auto found = after.chunks().find(logical);
      if (found == after.chunks().end() || found->second.copies != chunk.copies)
        findings.add("btrfs, chunks", fmt::format("the chunk at {} lies elsewhere", logical));
    }
  // Chunks may have been given up; none may be new.
  if (chunks_move)
    std::erase_if(was, [&](const auto& one) {
      return one.first.type == item::chunk && !after.chunks().contains(one.first.offset);
    });
  forget_places(was);
  forget_places(now);
  if (was != now) findings.add("btrfs, chunks", "more than places and sizes has changed");
  const auto old_root = before.tree(object::device_tree);
  const auto new_root = after.tree(object::device_tree);
  if (!old_root || !new_root) return;
  const auto others = [](Items items) {
    std::erase_if(items, [](const auto& one) { return one.first.type == item::device_extent; });
    return items;
  };
  if (others(items_of(before, *old_root)) != others(items_of(after, *new_root)))
    findings.add("btrfs, device", "more than its extents has changed");
}

}  // namespace

void audit_structure(const Volume& volume, Findings& findings) {
  audit_superblocks(volume, findings);
  audit_device(volume, findings);
  audit_groups(volume, findings);
}

void audit_kept(const Volume& before, const Volume& after, bool chunks_move, Findings& findings) {
  Superblock was = before.super();
  Superblock now = after.super();
  const bool emptied = chunks_move && after.chunks().size() != before.chunks().size();
  for (Superblock* super : {&was, &now}) {
    super->checksum = {};
    super->size = 0;
    super->device.size = 0;
    super->device.used = 0;
    if (emptied) {
      // Sums in other chunks may need a block more; what is in use is held against the groups.
      super->used = 0;
      super->root = 0;
      super->backup_roots = {};
    }
    for (std::size_t at = 0; chunks_move && at + sizeof(DiskKey) + sizeof(ChunkItem) <=
                                                super->system_chunks_size.value();) {
      const auto head = parse_as<ChunkItem>(super->system_chunks, at + sizeof(DiskKey));
      at += sizeof(DiskKey) + sizeof(ChunkItem);
      for (std::size_t i = 0; i < head.stripes.value(); ++i, at += sizeof(Stripe))
        put_at(super->system_chunks, at + offsetof(Stripe, offset), Le64(0));
    }
  }
  if (std::memcmp(&was, &now, sizeof(was)) != 0)
    findings.add("btrfs, superblock", "more than its size has changed");
  audit_kept_items(before, after, chunks_move, findings);
}

}  // namespace jh::btrfs
