#include "core/fs/xfs/block_seal.h"

#include "core/fs/xfs/content_format.h"

namespace jh::xfs {

std::optional<Sealed> sealed_as(ConstByteSpan block) {
  if (block.size() < basic_block || parse_as<Be16>(block, 0).value() == inode_magic)
    return std::nullopt;
  switch (parse_as<Be32>(block, 0).value()) {
    case superblock_magic:
      return Sealed{offsetof(Superblock, checksum), offsetof(Superblock, log_sequence)};
    case free_space_magic:
      return Sealed{offsetof(FreeSpaceHeader, checksum), offsetof(FreeSpaceHeader, log_sequence)};
    case inode_header_magic:
      return Sealed{offsetof(InodeHeader, checksum), offsetof(InodeHeader, log_sequence)};
    case free_list_magic:
      return Sealed{offsetof(FreeListHeader, checksum), offsetof(FreeListHeader, log_sequence)};
    case tree_magic::by_block:
    case tree_magic::by_size:
    case tree_magic::inodes:
    case tree_magic::free_inodes:
    case tree_magic::reverse_map:
    case tree_magic::shared:
      return Sealed{offsetof(TreeHeader, checksum), offsetof(TreeHeader, log_sequence)};
    case tree_magic::extents:
      return Sealed{offsetof(LongTreeHeader, checksum), offsetof(LongTreeHeader, log_sequence)};
    case one_block_magic:
    case data_block_magic:
    case block_magic::free_index:
      return Sealed{offsetof(DirectoryHeader, checksum), offsetof(DirectoryHeader, log_sequence)};
    case block_magic::link_text:
    case block_magic::remote_value:
      return Sealed{offsetof(TextHeader, checksum), offsetof(TextHeader, log_sequence)};
    default:
      break;
  }
  switch (parse_as<Be16>(block, 8).value()) {
    case block_magic::node:
    case block_magic::attribute_leaf:
    case block_magic::index_leaf:
    case block_magic::index_leaf_of_many:
      return Sealed{offsetof(IndexHeader, checksum), offsetof(IndexHeader, log_sequence)};
    default:
      return std::nullopt;
  }
}

bool carries_identity(ConstByteSpan block, const Sealed& sealed, const Uuid& identity) {
  if (parse_as<Be32>(block, 0).value() == superblock_magic) return true;
  // In all of them the identity follows the sequence, but in two headers of a group.
  std::size_t at = sealed.sequence + 8;
  switch (parse_as<Be32>(block, 0).value()) {
    case free_space_magic:
      at = offsetof(FreeSpaceHeader, uuid);
      break;
    case inode_header_magic:
      at = offsetof(InodeHeader, uuid);
      break;
    case free_list_magic:
      at = offsetof(FreeListHeader, uuid);
      break;
    case block_magic::link_text:
    case block_magic::remote_value:
      at = offsetof(TextHeader, uuid);
      break;
    default:
      break;
  }
  return parse_as<Uuid>(block, at) == identity;
}

}  // namespace jh::xfs
