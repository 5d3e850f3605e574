#include "core/fs/btrfs/references.h"

namespace jh::btrfs {
namespace {

[[noreturn]] void cut_off() { corrupt("a reference to an extent is cut off"); }

// Behind the type, and for content by tree: tree, inode, offset, times.
constexpr std::size_t by_tree_length = 28;

Reference by_tree(ConstByteSpan data) {
  if (data.size() < by_tree_length) cut_off();
  return {item::data_reference, parse_as<Le64>(data, 0).value(), parse_as<Le64>(data, 8).value(),
          parse_as<Le64>(data, 16).value(), parse_as<Le32>(data, 24).value()};
}

}  // namespace

std::size_t references_at(std::uint8_t item_type, ConstByteSpan data) {
  if (data.size() < sizeof(ExtentItem)) corrupt("the item of an extent is too short");
  const bool tree_block =
      (parse_as<ExtentItem>(data, 0).flags.value() & extent_flag::tree_block) != 0;
  // Older ones say of tree blocks which they are.
  const std::size_t told = tree_block && item_type == item::extent ? sizeof(DiskKey) + 1 : 0;
  if (data.size() < sizeof(ExtentItem) + told) corrupt("the item of an extent is too short");
  return sizeof(ExtentItem) + told;
}

void for_each_inline_reference(
    std::uint8_t item_type, ConstByteSpan data,
    const std::function<void(const Reference&, std::size_t, std::size_t)>& visit) {
  for (std::size_t at = references_at(item_type, data); at < data.size();) {
    Reference reference{data[at]};
    const ConstByteSpan rest = data.subspan(at + 1);
    std::size_t length = 8;
    if (reference.type == item::data_reference) {
      reference = by_tree(rest);
      length = by_tree_length;
    } else {
      if (reference.type == item::shared_data_reference) length = 12;
      if (rest.size() < length) cut_off();
      reference.holder = parse_as<Le64>(rest, 0).value();
      if (reference.type == item::shared_data_reference)
        reference.times = parse_as<Le32>(rest, 8).value();
      else if (reference.type == item::owner_reference)
        reference.times = 0;
      else if (reference.type != item::tree_reference &&
               reference.type != item::shared_tree_reference)
        corrupt("a reference to an extent is of an unknown kind");
    }
    visit(reference, at, 1 + length);
    at += 1 + length;
  }
}

std::optional<Reference> keyed_reference(const Key& key, ConstByteSpan data) {
  switch (key.type) {
    case item::tree_reference:
    case item::shared_tree_reference:
      return Reference{key.type, key.offset};
    case item::data_reference:
      return by_tree(data);
    case item::shared_data_reference:
      if (data.size() < 4) cut_off();
      return Reference{key.type, key.offset, 0, 0, parse_as<Le32>(data, 0).value()};
    default:
      return std::nullopt;
  }
}

void ReferenceSum::add(const Reference& reference) {
  std::uint64_t hash = reference.type * 0x9E3779B97F4A7C15ULL;
  for (const std::uint64_t value : {reference.holder, reference.inode, reference.offset}) {
    hash ^= value + 0x9E3779B97F4A7C15ULL + (hash << 6) + (hash >> 2);
    hash *= 0xBF58476D1CE4E5B9ULL;
    hash ^= hash >> 31;
  }
  count += reference.times;
  who += hash * reference.times;
}

}  // namespace jh::btrfs
