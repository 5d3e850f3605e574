// What a partition, a volume, or a disk without partitions holds.
#pragma once

#include <variant>

#include "core/fs/filesystem.h"
#include "core/layer/layer_kind.h"

namespace jh {

/// A filesystem, or what is resized like one.
struct FilesystemContent {
  const FilesystemKind* kind = nullptr;  // null: a driver of the system knows it, we do not
  /// When the guest did not shut down properly: the filesystem as its journal makes it, in memory,
  /// and what that takes.
  std::unique_ptr<ScratchStore> at_rest;
  std::optional<OpenedFilesystem::JournalReplay> replay;
  std::unique_ptr<Filesystem> opened;  // on `at_rest` if that is there; null: it could not be
};

struct Content : LayerFacts {
  ContentKind kind = ContentKind::unknown;
  /// How far it says to reach, when that is more than its place has: what lies behind the place
  /// may be its data.
  std::optional<Bytes> claims;
  /// By its kind; of what is unknown there is nothing to say.
  std::variant<std::monostate, FilesystemContent, LayerHeader> inside;

  /// Null: it is something else.
  const FilesystemContent* as_filesystem() const { return std::get_if<FilesystemContent>(&inside); }
  /// An empty one where it is something else.
  const LayerHeader& header() const {
    static const LayerHeader none;
    const LayerHeader* found = std::get_if<LayerHeader>(&inside);
    return found == nullptr ? none : *found;
  }

  /// Null: it is none, or its kind is not one of ours.
  const FilesystemKind* filesystem_kind() const {
    const FilesystemContent* found = as_filesystem();
    return found == nullptr ? nullptr : found->kind;
  }
  /// Null: it is none, or it could not be opened.
  Filesystem* filesystem() const {
    const FilesystemContent* found = as_filesystem();
    return found == nullptr ? nullptr : found->opened.get();
  }
  /// Null: it is none, or was unmounted.
  const OpenedFilesystem::JournalReplay* replay() const {
    const FilesystemContent* found = as_filesystem();
    return found == nullptr || !found->replay ? nullptr : &*found->replay;
  }

  /// The same where its bytes are all there is of it; null: it is mounted, or there is none.
  FilesystemOnDisk* on_disk() const { return dynamic_cast<FilesystemOnDisk*>(filesystem()); }

  /// Whether what it has free is worth nothing to anybody, and need not be copied when it moves.
  bool moves_without_free() const {
    return filesystem() != nullptr && filesystem_kind() != nullptr &&
           !filesystem_kind()->holds_files;
  }

  /// Whether room is usually meant for something like this: files, in what we can resize.
  bool is_usual_target() const {
    return filesystem_kind() != nullptr && filesystem_kind()->resizable &&
           filesystem_kind()->holds_files;
  }
};

/// It can become larger and smaller.
inline bool can_be_resized(const Content& content) {
  return content.filesystem() != nullptr && content.filesystem_kind() != nullptr &&
         content.filesystem_kind()->resizable;
}

/// Files of it can be reached, and it can be resized.
inline bool is_opened(const Content& content) {
  return content.is_usual_target() && content.filesystem() != nullptr;
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
