// Which blocks belong to an inode: its extent tree, or its indirect blocks.
#pragma once

#include <functional>

#include "core/fs/ext/filesystem.h"

namespace jh::ext {

/// Consecutive blocks of a file. `unwritten`: allocated, but reads as zeros.
struct MappedExtent {
  std::uint64_t logical = 0;
  std::uint64_t physical = 0;
  std::uint64_t count = 0;
  bool unwritten = false;
};

struct BlockVisitor {
  /// File content, in ascending logical order. Return false to stop.
  std::function<bool(const MappedExtent&)> data;
  /// A block of the tree itself. Return false not to read it.
  std::function<bool(std::uint64_t physical)> tree = [](std::uint64_t) { return true; };
  /// What is wrong; the walk goes on as well as it can. The default throws it as damage.
  std::function<void(const std::string&)> defect = [](const std::string& what) {
    damaged(what, "ext filesystem", "check the filesystem inside the guest first");
  };
};

/// Whether the inode keeps block numbers at all (inline data, device nodes and short links do not).
bool has_blocks(const InodeRecord& inode);
/// Visits all blocks of the inode's map; returns false when a visitor stopped it.
bool visit_blocks(Filesystem& fs, const InodeRecord& inode, const BlockVisitor& visitor);
/// Puts the checksum of a block of the inode's extent tree into its tail, where there are
/// checksums.
void set_extent_sum(const Filesystem& fs, const InodeRecord& inode, ByteSpan block);
/// The physical block behind a logical one; 0 for a hole or an unwritten one.
std::uint64_t find_block(Filesystem& fs, const InodeRecord& inode, std::uint64_t logical);

}  // namespace jh::ext
