// Inode: reading files and folders by their numbers.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/tree_walk.h"

namespace jh::xfs {

struct FileExtent {
  std::uint64_t offset = 0;  // blocks of the file
  std::uint64_t block = 0;   // filesystem block number
  std::uint64_t count = 0;
  bool unwritten = false;  // reads as zeros
};

class InodeFile {
 public:
  /// Reads and checks the inode. Throws damaged.
  InodeFile(Store& place, const Geometry& geometry, std::uint64_t number);

  const Inode& core() const { return core_; }
  /// All of it, as it stands on disk.
  const Buffer& bytes() const { return bytes_; }
  std::uint64_t number() const { return number_; }
  bool is_folder() const { return (core_.mode.value() & 0xF000) == 0x4000; }
  bool is_file() const { return (core_.mode.value() & 0xF000) == 0x8000; }
  bool is_link() const { return (core_.mode.value() & 0xF000) == 0xA000; }
  std::uint64_t size() const { return core_.size.value(); }
  /// The bytes of a fork, as they stand in the inode.
  ConstByteSpan data_fork() const;
  ConstByteSpan attribute_fork() const;
  /// Extents of the data (or the attributes), ascending. `node`, if given: each block of the tree
  /// that holds them.
  std::vector<FileExtent> extents(bool attributes = false,
                                  const std::function<void(std::uint64_t block)>& node = {}) const;
  /// How many of them the inode says it has.
  std::uint64_t extents_said(bool attributes) const;
  /// Bytes [offset, offset + length) of the file; holes read as zeros.
  Buffer read(std::uint64_t offset, std::uint64_t length) const;
  /// The same, by extents that were fetched before.
  Buffer read(const std::vector<FileExtent>& all, std::uint64_t offset, std::uint64_t length) const;

  struct Entry {
    std::string name;
    std::uint64_t inode = 0;
    std::uint8_t type = 0;      // what the name says its inode is; 0: it does not
    std::uint64_t address = 0;  // bytes of the folder before it; 0: the folder is in its inode
  };
  /// Names in a folder, in no order, without "." and "..".
  void for_each_entry(const std::function<void(const Entry&)>& visit) const;
  /// The same with "..", and "." where it is written.
  void for_each_name(const std::function<void(const Entry&)>& visit) const;
  /// The blocks that its names are in, and where in the folder they begin; none where the names are
  /// in its inode.
  void for_each_folder_block(
      const std::function<void(ConstByteSpan block, std::uint64_t address)>& visit) const;
  /// The names in one of them. Throws damaged.
  void names_in(ConstByteSpan block, std::uint64_t address,
                const std::function<void(const Entry&)>& visit) const;

 private:
  void add_extents(ConstByteSpan data, std::size_t count, std::vector<FileExtent>& out) const;
  void walk_tree(std::uint64_t block, unsigned level, bool attributes,
                 TreeWalk<std::uint64_t>& so_far, const std::function<void(std::uint64_t)>& node,
                 std::vector<FileExtent>& out) const;
  void short_folder(const std::function<void(const Entry&)>& visit) const;
  [[noreturn]] void fail(const std::string& what) const;

  Store& place_;
  const Geometry& geometry_;
  std::uint64_t number_;
  Buffer bytes_;
  Inode core_{};
};

/// The inode at a path from the root folder, links followed; nothing: there is none.
std::optional<std::uint64_t> find_path(Store& place, const Geometry& geometry,
                                       const std::string& path);

}  // namespace jh::xfs
