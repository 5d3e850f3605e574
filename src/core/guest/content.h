// What a partition, a volume, or a disk without partitions holds.
#pragma once

#include "core/fs/filesystem.h"

namespace jh {

enum class ContentKind {
  nothing,     // no signature, and the first bytes are zeros
  filesystem,  // or a swap area
  physical_volume,
  encrypted,
  logical_partitions,  // an extended partition: they are in it
  array_member,        // a part of a mirror, a stripe or a cache: another layer shows through it
  unknown,
};

struct Content : FilesystemFacts {
  ContentKind kind = ContentKind::unknown;
  const FilesystemKind* filesystem_kind = nullptr;  // null: it is none
  /// How far it says to reach, when that is more than its place has: what lies behind the place
  /// may be its data.
  std::optional<Bytes> claims;
  /// When the guest did not shut down properly: the filesystem as its journal makes it, in memory,
  /// and what that takes.
  std::unique_ptr<ScratchStore> at_rest;
  std::optional<OpenedFilesystem::JournalReplay> replay;
  std::unique_ptr<Filesystem> filesystem;  // when it could be opened; on `at_rest` if that is there

  /// Whether what it has free is worth nothing to anybody, and need not be copied when it moves.
  bool moves_without_free() const {
    return filesystem != nullptr && filesystem_kind != nullptr && !filesystem_kind->holds_files;
  }

  /// Whether room is usually meant for something like this: files, in what we can resize.
  bool is_usual_target() const {
    return filesystem_kind != nullptr && filesystem_kind->resizable && filesystem_kind->holds_files;
  }
};

/// It can become larger and smaller.
inline bool can_be_resized(const Content& content) {
  return content.filesystem != nullptr && content.filesystem_kind != nullptr &&
         content.filesystem_kind->resizable;
}

/// Files of it can be reached, and it can be resized.
inline bool is_opened(const Content& content) {
  return content.is_usual_target() && content.filesystem != nullptr;
}

/// What moved with its partition and has a name for its place gets the new one. Null: it has none.
inline void update_partition_start(Store& moved, const FilesystemKind* kind, Sectors from,
                                   Sectors to) {
  if (kind != nullptr && kind->set_partition_start != nullptr)
    kind->set_partition_start(moved, from.value(), to.value());
}

/// Notes that `content` says to reach this far in a place of this size; nothing happens where it
/// fits.
void note_claim(Content& content, std::uint64_t reach, Bytes place_size);

/// Looks at a place; never throws for what it finds there (trouble becomes a blocker).
Content recognise_content(Store& place);

}  // namespace jh
