// What the snapshots of a qcow2 image rely on in its file, and what is kept for each of them alone.
#pragma once

#include <functional>

#include "core/container/qcow2/refcounts.h"

namespace jh::qcow2 {

/// Calls visit(offset, length) for all ranges of the file that a snapshot relies on: its tables,
/// and what they name. Ranges may come more than once. `snapshot`: its number in the list.
void for_each_range_of(Store& file, const Image& image, std::size_t snapshot,
                       const std::function<void(std::uint64_t, std::uint64_t)>& visit);

/// Bytes of the file that this snapshot alone keeps.
std::uint64_t kept_alone(Store& file, const Image& image, Refcounts& counts, std::size_t snapshot);

}  // namespace jh::qcow2
