// Bitmaps of changed blocks, by which backups copy only what is new ("Bitmaps").
#pragma once

#include "core/container/qcow2/refcounts.h"

namespace jh::qcow2 {

/// Before a change: those that are kept up say that everything has changed, for nothing else is
/// told of what we write. Throws damaged when a table cannot be where it should.
void mark_all_changed(Store& file, const Image& image, Refcounts& counts);

/// For a disk of another size: their tables get its length. What is new has changed in those that
/// are kept up, and has not in the others.
void resize_bitmaps(Store& file, const Image& image, Refcounts& counts, std::uint64_t disk_size);

}  // namespace jh::qcow2
