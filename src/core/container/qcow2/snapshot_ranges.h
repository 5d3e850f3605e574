// What the snapshots of a qcow2 image rely on in its file, and what is kept for each of them alone.
// Snapshots share tables: each is read once, however many name it.
#pragma once

#include <functional>

#include "core/container/qcow2/refcounts.h"

namespace jh::qcow2 {

/// Calls visit(offset, length) for the L1 table of each snapshot in turn, and for all that these
/// name: each L2 table once, and what it names. Throws damaged.
void for_each_snapshot_range(Store& file, const Image& image,
                             const std::function<void(std::uint64_t, std::uint64_t)>& visit);

/// Bytes of the file that each snapshot alone keeps, in the order of the list. Throws damaged.
std::vector<std::uint64_t> kept_by_snapshots(Store& file, const Image& image, Refcounts& counts);

}  // namespace jh::qcow2
