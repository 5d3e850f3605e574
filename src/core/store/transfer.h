// Taking a run of bytes from one store into another: by sharing blocks where the host can, else by
// copying.
#pragma once

#include "core/store/store.h"

namespace jh {

/// Whether files may share blocks of the host: where it can, or not at all.
enum class Sharing { automatic, never };

/// What became of the bytes that were taken.
struct Transferred {
  std::uint64_t shared = 0;
  std::uint64_t copied = 0;
  std::uint64_t total() const { return shared + copied; }
  Transferred& operator+=(const Transferred& more) {
    shared += more.shared;
    copied += more.copied;
    return *this;
  }
};

/// Takes `length` bytes of `from`, at `offset`, to `target` in `to`, where they have a place that
/// reads as zeros and that nothing refers to. Both are looked through (`locate`) down to the files.
/// Throws what share() and writing throw.
Transferred transfer(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                     std::uint64_t length);

}  // namespace jh
