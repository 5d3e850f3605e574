// The index of a fork: nodes and leaves by hashes, of a folder's names or of attributes.
#pragma once

#include <set>

#include "core/fs/xfs/inode.h"
#include "core/fs/xfs/observer.h"

namespace jh::xfs {

/// "Directories": of a name, turned by seven bits for each of its bytes.
std::uint32_t hash_of(ConstByteSpan name);

/// The blocks of one fork of a file, by their numbers in it.
class ForkBlocks {
 public:
  ForkBlocks(const Geometry& geometry, const InodeFile& file, bool attributes, std::uint64_t unit,
             const Observer& observer)
      : geometry_(geometry),
        file_(file),
        unit_(unit),
        extents_(file.extents(attributes)),
        hearer_(observer) {}

  const std::vector<FileExtent>& extents() const { return extents_; }
  std::uint64_t unit() const { return unit_; }
  std::uint64_t blocks() const;
  /// Where the file's block lies, in bytes; nothing: in a hole.
  std::optional<std::uint64_t> where(std::uint64_t number) const;
  /// A unit of the index from the file's block on, with a header that is what it must be. Throws
  /// damaged.
  Buffer read(std::uint64_t number) const;
  void written(std::uint64_t sequence) const { hearer_.written(sequence); }
  [[noreturn]] void fail(const std::string& what) const;

 private:
  const Geometry& geometry_;
  const InodeFile& file_;
  std::uint64_t unit_;
  std::vector<FileExtent> extents_;
  const Observer& hearer_;
};

/// All leaves from a root on, in the order of their hashes: `leaf` is told each one's number in the
/// fork, and gives back its largest hash.
class IndexWalk {
 public:
  using Leaf =
      std::function<std::uint32_t(std::uint64_t number, ConstByteSpan bytes, std::uint16_t magic)>;

  IndexWalk(const ForkBlocks& fork, Leaf leaf)
      : fork_(fork), leaf_(std::move(leaf)), budget_(fork.blocks()) {}

  /// Everything below a block of the index; gives back its largest hash. Throws damaged.
  std::uint32_t visit(std::uint64_t number, std::optional<unsigned> level = {});
  /// After the last leaf: none is left out.
  void end() const;

 private:
  const ForkBlocks& fork_;
  Leaf leaf_;
  std::uint64_t budget_;
  std::set<std::uint64_t> seen_;
  std::uint32_t last_ = 0;
  std::uint32_t expected_ = 0;
};

}  // namespace jh::xfs
