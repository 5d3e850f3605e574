// Reading what is in an ext filesystem: directories, files, the whole tree.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "core/fs/ext/block_map.h"

namespace jh::ext {

struct DirectoryEntry {
  std::uint32_t ino = 0;
  std::uint8_t file_type = 0;
  std::string name;
};

/// Calls visit for each entry ("." and ".." too) until it returns false. Throws damaged.
void read_directory(Filesystem& fs, const InodeRecord& directory,
                    const std::function<bool(const DirectoryEntry&)>& visit);
/// A whole file, at most `limit` bytes of it.
Buffer read_file(Filesystem& fs, const InodeRecord& file, std::uint64_t limit);
/// The target of a symbolic link.
std::string read_link(Filesystem& fs, const InodeRecord& link);
/// Follows a path from the root, symbolic links included (at most 40). Nothing: no such file.
std::optional<InodeRecord> find_path(Filesystem& fs, const std::string& path);
/// The text of a file by path, cut at `limit` bytes. Nothing: no such file, or not a regular one.
std::optional<std::string> read_text(Filesystem& fs, const std::string& path,
                                     std::uint64_t limit = 1U << 20);

/// Visits every name of the tree once, directories before what is in them.
void walk_tree(Filesystem& fs,
               const std::function<void(const std::string& path, const InodeRecord& inode)>& visit);

/// Numbers of the group's inodes that are in use and that its table holds, ascending.
void for_each_used_inode(Filesystem& fs, std::uint32_t group,
                         const std::function<void(std::uint32_t ino)>& visit);

/// Where in the raw inode the list of its own attributes begins. Nothing: it has none.
std::optional<std::size_t> attributes_at(const InodeRecord& inode);
/// Asks `change` for each number of an inode that holds a value, and puts its answer there. Whether
/// any number changed.
bool change_value_inodes(ByteSpan entries,
                         const std::function<std::uint32_t(std::uint32_t)>& change);

/// Inline data: what of it lies in the inode, and the rest in its "system.data" attribute.
/// `complete` tells whether that attribute was found.
Buffer inline_data(const InodeRecord& inode, bool* complete = nullptr);

/// Where in the raw inode the value of that attribute lies: offset and length. Nothing: it has
/// none.
std::optional<std::pair<std::size_t, std::size_t>> inline_rest(const InodeRecord& inode);

/// The length of a directory entry in blocks of this size (64 KiB needs a code for itself).
std::uint32_t entry_length(std::uint16_t raw, std::uint32_t block_size);
/// Whether an entry of this length, where there is so much room, can be one.
inline bool is_whole(const DirEntry& entry, std::uint32_t length, std::size_t room) {
  return length >= 12 && length % 4 == 0 && length <= room &&
         entry.name_len + sizeof(DirEntry) <= length;
}

}  // namespace jh::ext
