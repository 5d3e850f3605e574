// The hashes by which an indexed directory finds its names. Section "Hash Tree Directories".
#pragma once

#include <array>
#include <cstdint>
#include <string_view>

namespace jh::ext {

enum class HashKind : std::uint8_t { legacy = 0, half_md4 = 1, tea = 2, keyed = 6 };

struct NameHash {
  HashKind kind = HashKind::half_md4;
  /// Characters above 127 count as negative numbers, as on the machine that made the filesystem.
  bool signed_chars = true;
  /// The superblock's hash seed; all zero: the hash's own starting values.
  std::array<std::uint32_t, 4> seed{};

  /// The hash as the index stores it, its lowest bit clear. Not for HashKind::keyed, which needs
  /// the directory's key.
  std::uint32_t of(std::string_view name) const;
};

}  // namespace jh::ext
