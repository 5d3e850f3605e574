// The four checksums that a filesystem can be made with.
#pragma once

#include "core/fs/btrfs/format.h"
#include "core/store/store.h"

namespace jh::btrfs {

/// Bytes that a checksum takes where it stands next to others; 0: the type is not known.
std::size_t checksum_size(std::uint16_t type);
/// Zeros behind what the type gives.
Checksum checksum_of(std::uint16_t type, ConstByteSpan bytes);
/// Of a superblock or a tree block, which begin with their own checksum.
Checksum block_checksum(std::uint16_t type, ConstByteSpan block);

}  // namespace jh::btrfs
