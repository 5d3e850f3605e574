// Unpack: the content of packed extents.
#pragma once

#include <optional>

#include "core/fs/btrfs/format.h"
#include "core/store/store.h"

namespace jh::btrfs {

/// At most `size` bytes. Nothing: the packing is not known, or does not hold.
std::optional<Buffer> unpack(std::uint8_t how, ConstByteSpan packed, std::uint64_t size,
                             std::uint64_t sector_size);

}  // namespace jh::btrfs
