// Swap areas: they hold nothing that must be kept but their identity, so growing is a new header.
#pragma once

#include <optional>
#include <string>

#include "core/fs/filesystem.h"
#include "core/store/store.h"

namespace jh::swap {

extern const FilesystemKind kind;

struct Facts {
  std::uint64_t page_size = 0;
  std::uint64_t size = 0;  // bytes, by its header
  std::string uuid;
  std::string label;
  bool hibernated = false;  // a suspended system's image is in it
  bool big_endian = false;
};

/// Nothing: no swap area. Throws damaged when the header cannot be true.
std::optional<Facts> read(Store& place);
/// The most that a swap area on a place of this size can use.
std::uint64_t usable_size(const Facts& facts, std::uint64_t place_size);
/// Lets the header cover `size` bytes of the place, or as many as can be used; page size, identity,
/// label and bad pages stay. Throws unsupported when bad pages would lie behind the end.
void resize(Store& place, std::uint64_t size);
/// The smallest swap area of this kind: its header and a few pages.
std::uint64_t smallest_size(const Facts& facts);

}  // namespace jh::swap
