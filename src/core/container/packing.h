// Packing and unpacking of single blocks. The ways are the forms': deflate with or without zlib's
// frame, and zstd.
#pragma once

#include "core/store/store.h"

namespace jh {

enum class Packing { deflate, zlib, zstd };

/// Fills `out` from packed bytes, of which there may be more than are needed. Throws damaged when
/// they are no such bytes, or give less.
void unpack(Packing way, ConstByteSpan packed, ByteSpan out);
/// Empty when the result would not be shorter than `most`.
Buffer pack(Packing way, ConstByteSpan content, std::size_t most);

}  // namespace jh
