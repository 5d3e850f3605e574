// The resize inode (number 7) owns the reserved descriptor blocks: its double-indirect block lists
// those of the first group, and each of these lists its copies in the groups with a table copy.
#include <fmt/format.h>

#include "core/fs/ext/grow.h"

namespace jh::ext {

void rebuild_resize_inode(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  if (!g.has_compat(compat::resize_inode)) return;
  InodeRecord inode = fs.read_inode(resize_ino);
  const std::uint32_t root = inode.fields.block[13].value();
  const std::uint32_t per_block = g.block_size / 4;
  const std::vector<std::uint32_t> backups = g.backup_groups();
  if (root == 0 || !g.is_block(root))
    damaged("the resize inode has no block list", "ext inode 7",
            "check the filesystem inside the guest first");
  ensure(backups.size() <= per_block, "the table copies fit one block list");

  Buffer list(g.block_size);
  const auto put = [&](Buffer& block, std::size_t index, std::uint64_t number) {
    Le32 value;
    value = checked_cast<std::uint32_t>(number);
    put_at(block, index * 4, value);
  };
  for (std::uint32_t i = 0; i < g.reserved_gdt; ++i) {
    const std::uint64_t block = g.gdt_start(0) + g.desc_blocks + i;
    put(list, (g.desc_blocks + i) % per_block, block);
    Buffer copies(g.block_size);
    for (std::size_t n = 0; n < backups.size(); ++n)
      put(copies, n, block + std::uint64_t{backups[n]} * g.blocks_per_group);
    fs.store().write(g.offset(block), copies);
  }
  fs.store().write(g.offset(root), list);

  const std::uint64_t owned = 1 + g.reserved_gdt * (1 + std::uint64_t{backups.size()});
  // With bigalloc every owned block counts as a whole cluster.
  inode.set_counted(owned * g.cluster_ratio * (g.block_size / 512));
  fs.write_inode(inode);
}

}  // namespace jh::ext
