// Packing and decompressing of single blocks. The ways are the forms': deflate with or without
// zlib's frame, and zstd.
#pragma once

#include "core/store/store.h"

namespace jh {

enum class Compression { deflate, zlib, zstd };

/// Fills `out` from compressed bytes, of which there may be more than are needed. Throws damaged
/// when they are no such bytes, or give less.
void decompress(Compression way, ConstByteSpan compressed, ByteSpan out);
/// Empty when the result would not be shorter than `most`.
Buffer pack(Compression way, ConstByteSpan content, std::size_t most);

}  // namespace jh
