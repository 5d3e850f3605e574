// Taking and giving back blocks and inodes of a filesystem that is being changed.
#pragma once

#include <map>
#include <optional>

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

/// Edits bitmaps in memory; finish() brings them out with all that depends on them: checksums,
/// group counts, totals. Blocks are given and taken by whole clusters.
class Allocation {
 public:
  explicit Allocation(Filesystem& fs) : fs_(fs) {}

  bool in_use(std::uint64_t block);
  void take(std::uint64_t block, std::uint64_t count);
  void release(std::uint64_t block, std::uint64_t count);
  bool inode_in_use(std::uint32_t ino);
  void take_inode(std::uint32_t ino, bool directory);
  void release_inode(std::uint32_t ino, bool directory);

  /// `count` consecutive free blocks, near `goal` where there are some, outside of `forbidden`;
  /// they are taken. With bigalloc the run begins where a cluster begins. Nothing: there are none.
  std::optional<std::uint64_t> allocate(std::uint64_t count, std::uint64_t goal,
                                        const std::vector<BlockRun>& forbidden);

  /// Writes bitmaps, their descriptors in the first table, and the first superblock.
  void finish();

 private:
  struct Edited {
    std::optional<Buffer> blocks;
    std::optional<Buffer> inodes;
    bool blocks_changed = false;
    bool inodes_changed = false;
    std::int64_t directories = 0;
    std::uint32_t highest_inode = 0;  // 1-based within the group, of those taken
  };
  Buffer& blocks_of(std::uint32_t group);
  Buffer& inodes_of(std::uint32_t group);
  void edit(std::uint64_t block, std::uint64_t count, bool taken);
  void edit_inode(std::uint32_t ino, bool taken, bool directory);

  Filesystem& fs_;
  std::map<std::uint32_t, Edited> groups_;
};

/// Writes the block of the first descriptor table that holds this group.
void write_first_descriptor(Filesystem& fs, std::uint32_t group);
/// Sets the superblock's free counts to what the groups say, and writes it.
void refresh_totals(Filesystem& fs);

}  // namespace jh::ext
