// Filling a new image with the content of a disk.
#pragma once

#include "core/base/progress.h"
#include "core/container/create.h"
#include "core/store/transfer.h"

namespace jh {

/// Bytes of a disk that are kept somewhere, zeros among them perhaps: what a copy has to read.
std::uint64_t bytes_kept(ImageReader& from);

/// Copies what `from` keeps into a new disk that reads as zeros; what is zero stays without a
/// place.
void fill_disk(ImageReader& from, Container& to, Progress& progress);

/// The same, by sharing blocks with the files that `from` lies in, wherever they can be. What is
/// not read cannot be seen to be zero: with `find_zeros` everything is read, and only what is not
/// zero is taken.
Transferred share_disk(ImageReader& from, Container& to, bool find_zeros, Progress& progress);

/// How much of what `from` keeps could be shared, and how much would have to be copied, if the new
/// image lays it out in whole blocks of the host.
Transferred shareable(ImageReader& from);

/// Makes a compressed image (qcow2 or VMDK) of what `from` keeps. Blocks are compressed on all
/// processors but written in order, so that the result is always the same.
void fill_compressed(ImageReader& from, Store& file, const NewContainer& wanted,
                     Progress& progress);

/// Throws damaged, naming the place, when the two disks differ; the shorter one may only be
/// followed by zeros.
void compare_disks(ImageReader& one, ImageReader& other, Progress& progress);

}  // namespace jh
