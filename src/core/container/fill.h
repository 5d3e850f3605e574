// Filling a new image with the content of a disk.
#pragma once

#include "core/base/progress.h"
#include "core/container/create.h"

namespace jh {

/// Bytes of a disk that are kept somewhere, zeros among them perhaps: what a copy has to read.
std::uint64_t bytes_kept(ImageReader& from);

/// Copies what `from` keeps into a new disk that reads as zeros; what is zero stays without a
/// place.
void fill_disk(ImageReader& from, Container& to, Progress& progress);

/// Makes a compressed image (qcow2 or VMDK) of what `from` keeps. Blocks are compressed on all
/// processors but written in order, so that the result is always the same.
void fill_compressed(ImageReader& from, Store& file, const NewContainer& wanted,
                     Progress& progress);

/// Throws damaged, naming the place, when the two disks differ; the shorter one may only be
/// followed by zeros.
void compare_disks(ImageReader& one, ImageReader& other, Progress& progress);

}  // namespace jh
