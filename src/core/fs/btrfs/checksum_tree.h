// Sums: what the tree of checksums keeps of the content of files, by logical address.
#pragma once

#include <functional>

#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

/// Calls visit(logical, checksums) for what is kept of [from, to): checksums of sectors side by
/// side. Throws damaged.
void for_each_checksum_run(const Volume& volume, std::uint64_t from, std::uint64_t to,
                           const std::function<void(std::uint64_t, ConstByteSpan)>& visit);

}  // namespace jh::btrfs
