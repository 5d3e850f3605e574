// Relocate: what is in some chunks goes to others, and they are given up.
#pragma once

#include "core/base/progress.h"
#include "core/fs/btrfs/layout.h"

namespace jh::btrfs {

/// Copies bytes of the device to where nothing is; `copied` is told to `progress` as it grows.
void copy_unreferenced(Store& place, std::uint64_t from, std::uint64_t to, std::uint64_t length,
                       std::uint64_t& copied, Progress& progress);

/// Carries out the emptying part of a plan. Extents are copied as unreferenced; every address of
/// them, in all trees, becomes the new one. Afterwards the volume has to be read again. Throws
/// refused when a tree has no room for what it must say.
void empty_chunks(Volume& volume, const Shrinking& plan, Progress& progress);

}  // namespace jh::btrfs
