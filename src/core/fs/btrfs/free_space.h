// Free space: what the tree of free space says of each block group.
#pragma once

#include <functional>
#include <map>

#include "core/base/findings.h"
#include "core/base/ranges.h"
#include "core/fs/btrfs/rewrite.h"

namespace jh::btrfs {

/// What of a chunk no extent takes, by logical addresses.
Ranges free_in(const Volume& volume, std::uint64_t logical, const Chunk& chunk);

/// Changes the tree's items: of the chunks in `free` they say these ranges, of those that are given
/// up nothing any more; the others stay, in extents or bitmaps as they were.
void renew_free_space(const Volume& volume, std::vector<Item>& items,
                      const std::map<std::uint64_t, Ranges>& free,
                      const std::function<bool(std::uint64_t chunk)>& given_up);

/// Whether it says of each chunk what the tree of extents does. Throws damaged.
void audit_free_space(const Volume& volume, Findings& findings);

}  // namespace jh::btrfs
