// What kinds of blocks of metadata have in common: a checksum, the log's sequence, an identity.
#pragma once

#include <optional>

#include "core/base/uuid.h"
#include "core/store/store.h"

namespace jh::xfs {

/// Where checksum and log sequence are in a block of metadata, in bytes.
struct Sealed {
  std::size_t checksum = 0;
  std::size_t sequence = 0;
};

/// By what the block begins with; nothing: it is none, or has no checksum.
std::optional<Sealed> sealed_as(ConstByteSpan block);

/// Whether it is the filesystem's own: what was something else before has a log sequence of
/// nobody's.
bool carries_identity(ConstByteSpan block, const Sealed& sealed, const Uuid& identity);

}  // namespace jh::xfs
