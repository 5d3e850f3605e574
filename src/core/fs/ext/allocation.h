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
  /// Takes blocks that stay in use even when somebody gives them back.
  void keep(BlockRange run);
  bool inode_in_use(std::uint32_t ino);
  void take_inode(std::uint32_t ino, bool directory);
  void release_inode(std::uint32_t ino, bool directory);

  /// `count` consecutive free blocks, near `goal` where there are some, outside of `forbidden`;
  /// they are taken. With bigalloc the run begins where a cluster begins. Nothing: there are none.
  std::optional<std::uint64_t> allocate(std::uint64_t count, std::uint64_t goal,
                                        const std::vector<BlockRange>& forbidden);

  /// From here on only blocks below `end` (where a cluster ends) are given out. What is given back
  /// is handed out again only when nothing else is left, for the old state still refers to it.
  void set_limit(std::uint64_t end);
  /// With a limit: free blocks in a row, at most `count` of them (whole clusters unless fewer are
  /// asked for), as many as there are anywhere when so many are not. Nothing: all are in use.
  std::optional<BlockRange> allocate_piece(std::uint64_t count);
  /// With a limit: the lowest free inode number up to `last`, taken.
  std::optional<std::uint32_t> allocate_inode(std::uint32_t last, bool directory);

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
  std::optional<BlockRange> find_run(std::uint32_t size_class, std::uint64_t most);
  std::optional<std::uint64_t> allocate_one();
  bool reclaim();
  void edit(std::uint64_t block, std::uint64_t count, bool taken);
  void edit_inode(std::uint32_t ino, bool taken, bool directory);

  static constexpr std::uint32_t size_classes = 16;

  Filesystem& fs_;
  std::map<std::uint32_t, Edited> groups_;
  std::optional<std::uint64_t> limit_;
  BlockRange spare_;  // taken in one piece, given out one by one
  std::vector<BlockRange> given_back_;
  std::vector<BlockRange> kept_;
  // By size class: no free run of so many clusters begins before this block.
  std::array<std::uint64_t, size_classes> searched_{};
  std::uint32_t inode_hint_ = 0;  // all numbers up to it are in use
};

/// Writes the block of the first descriptor table that holds this group.
void write_first_descriptor(Filesystem& fs, std::uint32_t group);
/// Sets the superblock's free counts to what the groups say, and writes it.
void refresh_totals(Filesystem& fs);

}  // namespace jh::ext
