// What a change of size must leave as it was, in the blocks that it may write to.
#include <cstring>

#include "core/fs/ext/audit.h"

namespace jh::ext {
namespace {

// Sizes, counts and what follows from them; everything else of the superblock describes the
// filesystem, not its size.
void take_sizes_from(Superblock& super, const Superblock& other) {
  super.inodes_count = other.inodes_count;
  super.blocks_count_lo = other.blocks_count_lo;
  super.blocks_count_hi = other.blocks_count_hi;
  super.r_blocks_count_lo = other.r_blocks_count_lo;
  super.r_blocks_count_hi = other.r_blocks_count_hi;
  super.free_blocks_count_lo = other.free_blocks_count_lo;
  super.free_blocks_count_hi = other.free_blocks_count_hi;
  super.free_inodes_count = other.free_inodes_count;
  super.reserved_gdt_blocks = other.reserved_gdt_blocks;
  super.first_meta_bg = other.first_meta_bg;
  super.overhead_clusters = other.overhead_clusters;
  super.backup_bgs[0] = other.backup_bgs[0];
  super.backup_bgs[1] = other.backup_bgs[1];
  super.mmp_block = other.mmp_block;
  super.checksum = other.checksum;
}

// The resize inode owns as many blocks as the table leaves it; its list is for the audit.
void take_count_from(Inode& inode, const Inode& other) {
  inode.blocks_lo = other.blocks_lo;
  inode.blocks_hi = other.blocks_hi;
  inode.checksum_lo = other.checksum_lo;
  inode.checksum_hi = other.checksum_hi;
}

bool same_bytes(ConstByteSpan a, ConstByteSpan b) {
  return a.size() == b.size() && std::memcmp(a.data(), b.data(), a.size()) == 0;
}

}  // namespace

void audit_kept(Filesystem& before, Filesystem& after, bool blocks_move, Findings& findings) {
  const auto find = [&](const std::string& where, const char* what) { findings.add(where, what); };
  Superblock super = after.super();
  take_sizes_from(super, before.super());
  // A journal that moved has another list in the superblock's copy of it.
  if (blocks_move) super.jnl_blocks = before.super().jnl_blocks;
  if (!same_bytes(bytes_of(super), bytes_of(before.super())))
    find("superblock", "it differs in more than its sizes");
  if (blocks_move) return;  // then the trees are compared, with all attributes
  for (std::uint32_t ino = 1; ino < before.geometry().first_ino; ++ino) {
    const InodeRecord was = before.read_inode(ino);
    InodeRecord now = after.read_inode(ino);
    const std::string where = "inode " + std::to_string(ino);
    if (ino == resize_ino) {
      if (before.geometry().metadata_csum() && !after.inode_checksum_ok(now))
        find(where, "its checksum is wrong");
      const Geometry& g = after.geometry();
      const std::uint64_t owned =
          1 + g.reserved_gdt * (1 + std::uint64_t{g.backup_groups().size()});
      if (g.has_compat(compat::resize_inode) &&
          now.counted() != owned * g.cluster_ratio * (g.block_size / 512))
        find(where, "it does not count the blocks it owns");
      take_count_from(now.fields, was.fields);
      now.store_fields();
    }
    if (!same_bytes(now.raw, was.raw)) find(where, "it differs from what it was");
  }
}

}  // namespace jh::ext
