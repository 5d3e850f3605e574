// Compressing and decompressing of single blocks: deflate with or without zlib's frame, and zstd.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jh {

enum class Compression { deflate, zlib, zstd };

/// Fills `out` from compressed bytes, of which there may be more than are needed. Throws damaged
/// when they are no such bytes, or give less.
void decompress(Compression way, std::span<const std::uint8_t> compressed,
                std::span<std::uint8_t> out);
/// Empty when the result would not be shorter than `most`. Of zstd the fastest level.
std::vector<std::uint8_t> pack(Compression way, std::span<const std::uint8_t> content,
                               std::size_t most);

}  // namespace jh
