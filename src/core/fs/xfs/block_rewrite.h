// Blocks of files that say whose they are and where they lie: folders, attributes, long links; and
// the numbers of inodes in folders.
#pragma once

#include "core/fs/xfs/room.h"

namespace jh::xfs {

/// An extent of a file, where it lies afterwards.
struct PlacedExtent {
  FileExtent extent;
  bool moved = false;
};

/// Writes the blocks of one fork, that are not content, to where they lie afterwards, with its
/// inode's number, their addresses, and the numbers of inodes that folders name. What stays as it
/// is is not written.
class BlockRewrite {
 public:
  BlockRewrite(Store& place, const Geometry& geometry, const InodeFile& file, std::uint64_t number,
               const Renumbering& renumbered)
      : place_(place),
        geometry_(geometry),
        lines_(geometry),
        file_(file),
        number_(number),
        renumbered_(renumbered) {}

  void folder(const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now);
  void attributes(const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now);
  void link(const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now);
  /// Records without an address of their own.
  void plain(const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now);

 private:
  void each_unit(
      const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now,
      std::uint64_t unit, bool all,
      const std::function<void(ByteSpan bytes, std::uint64_t offset, std::uint64_t address)>& edit);
  void rename(ByteSpan block, std::uint64_t offset) const;
  template <class Header>
  void sign(ByteSpan block, std::uint64_t address, const std::function<void()>& edit = {}) const;

  Store& place_;
  const Geometry& geometry_;
  Lines lines_;
  const InodeFile& file_;
  std::uint64_t number_;
  const Renumbering& renumbered_;
};

/// The same of a folder whose names are in its inode. False: none of them has another number.
bool renumber_short_folder(const Geometry& geometry, const InodeFile& folder,
                           const Renumbering& renumbered, ByteSpan inode);

}  // namespace jh::xfs
