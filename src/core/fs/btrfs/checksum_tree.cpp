#include "core/fs/btrfs/checksum_tree.h"

#include <fmt/format.h>

namespace jh::btrfs {

void for_each_checksum_run(const Volume& volume, std::uint64_t from, std::uint64_t to,
                           const std::function<void(std::uint64_t, ConstByteSpan)>& visit) {
  const auto root = volume.tree(object::sum_tree);
  if (!root || from >= to) return;
  const std::size_t width = checksum_size(volume.checksums());
  const std::uint64_t sector = volume.sector_size();
  // An item that begins in front of the range may reach into it, by as much as fits in a block.
  const std::uint64_t reach = volume.node_size() / width * sector;
  for_each_item(
      volume, *root, {object::checksums, item::checksums, from > reach ? from - reach : 0},
      {object::checksums, item::checksums, to - 1}, [&](const Key& key, ConstByteSpan data) {
        if (key.type != item::checksums) return;
        if (data.size() % width != 0 || key.offset % sector != 0)
          corrupt(fmt::format("the checksums from {} on are cut off", key.offset));
        const std::uint64_t end = key.offset + data.size() / width * sector;
        const std::uint64_t first = std::max(from, key.offset);
        const std::uint64_t last = std::min(to, end);
        if (first >= last) return;
        visit(first,
              data.subspan((first - key.offset) / sector * width, (last - first) / sector * width));
      });
}

}  // namespace jh::btrfs
