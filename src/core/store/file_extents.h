// Whether two files have the same blocks of the host.
#pragma once

#include <cstdint>

namespace jh {

/// How many bytes, from the first one on, of one file and the other are the same blocks, as far as
/// the host tells; both lie on one filesystem. What waits to be written is brought out first.
/// Source: the kernel's documentation, filesystems/fiemap.
std::uint64_t same_blocks_of(int one, std::uint64_t offset, int other, std::uint64_t there,
                             std::uint64_t length);

}  // namespace jh
