// References: who an extent says refers to it.
#pragma once

#include <functional>
#include <optional>

#include "core/fs/btrfs/blocks.h"

namespace jh::btrfs {

struct Reference {
  std::uint8_t type = 0;
  std::uint64_t holder = 0;  // a tree, or the address of a parent
  std::uint64_t inode = 0;   // of content by tree: the file, and where in it the extent begins
  std::uint64_t offset = 0;
  std::uint64_t times = 1;  // 0: it only says whose it was
};

/// Where the references in an extent's item begin. Throws damaged.
std::size_t references_at(std::uint8_t item_type, ConstByteSpan data);
/// Calls visit(reference, at, length) for each of them, with its place in the item. Throws damaged.
void for_each_inline_reference(
    std::uint8_t item_type, ConstByteSpan data,
    const std::function<void(const Reference&, std::size_t, std::size_t)>& visit);
/// One that has an item of its own; nothing: the item is something else. Throws damaged.
std::optional<Reference> keyed_reference(const Key& key, ConstByteSpan data);

/// References, added up in any order: the same sum is the same references.
struct ReferenceSum {
  std::uint64_t count = 0;
  std::uint64_t who = 0;
  void add(const Reference& reference);
  void add(const ReferenceSum& other) {
    count += other.count;
    who += other.who;
  }
  bool operator==(const ReferenceSum&) const = default;
};

}  // namespace jh::btrfs
