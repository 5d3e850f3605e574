// Files: reading files of subvolumes by their paths.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

/// An item of a file's content.
struct FileExtent {
  FileExtentHead head;
  FileExtentPlace place;  // of what is not inline
  bool is_inline() const { return head.type == extent_type::in_line; }
};
/// Throws damaged.
FileExtent file_extent(ConstByteSpan data);

/// Calls visit for each name in an item of a folder; several are side by side where their hashes
/// are the same. Throws damaged.
void for_each_name(ConstByteSpan data,
                   const std::function<void(const FolderName&, ConstByteSpan)>& visit);

/// Subvolumes in which a guest may have its root, the likeliest first: the default one, the top
/// one, and those that have a name in it.
std::vector<std::uint64_t> likely_roots(const Volume& volume);
/// The text of a file, cut at `limit` bytes; nothing: there is none, or it is compressed in a way
/// that is not known.
std::optional<std::string> read_file(const Volume& volume, std::uint64_t subvolume,
                                     const std::string& path, std::uint64_t limit);

}  // namespace jh::btrfs
