// Decompress: the content of compressed extents.
#pragma once

#include <optional>

#include "core/fs/btrfs/format.h"
#include "core/store/store.h"

namespace jh::btrfs {

/// At most `size` bytes. Nothing: the packing is not known, or does not hold.
std::optional<Buffer> decompress(std::uint8_t how, ConstByteSpan compressed, std::uint64_t size,
                                 std::uint64_t sector_size);

}  // namespace jh::btrfs
