// Bitmaps of changed blocks, by which backups copy only what is new ("Bitmaps").
#pragma once

#include "core/container/qcow2/refcounts.h"

namespace jh::qcow2 {

/// Without the mark that they are up to date nobody reads them, and nothing says what is theirs.
inline bool keeps_bitmaps(const Image& image) {
  return image.bitmaps && (image.raw.autoclear.value() & autoclear::bitmaps) != 0;
}

/// Calls visit(offset of its entry, entry) for each in the directory. Returns what is wrong with
/// the directory, or null.
template <class Visit>
const char* for_each_bitmap(Store& file, const Image& image, Visit visit) {
  if (!keeps_bitmaps(image)) return nullptr;
  std::uint64_t at = image.bitmaps->directory_offset.value();
  const std::uint64_t end = checked_add(at, image.bitmaps->directory_size.value());
  if (end > file.size()) return "the directory of bitmaps reaches past the file's end";
  for (std::uint32_t i = 0; i < image.bitmaps->bitmaps.value(); ++i) {
    if (at + sizeof(BitmapEntry) > end) return "the directory of bitmaps is too short";
    const auto entry = read_as<BitmapEntry>(file, at);
    visit(at, entry);
    at += round_up(sizeof(BitmapEntry) + entry.extra_size.value() + entry.name_size.value(), 8);
  }
  return nullptr;
}

/// Before a change: those that are kept up say that everything has changed, for nothing else is
/// told of what we write. Throws damaged when a table cannot be where it should.
void mark_all_changed(Store& file, const Image& image, Refcounts& counts);

/// For a disk of another size: their tables get its length. What is new has changed in those that
/// are kept up, and has not in the others.
void resize_bitmaps(Store& file, const Image& image, Refcounts& counts, std::uint64_t disk_size);

}  // namespace jh::qcow2
