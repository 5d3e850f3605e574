#include <algorithm>

#include "core/fs/xfs/group.h"

namespace jh::xfs {
namespace {

// "Reverse-Mapping B+tree": keys are records without their counts, the lowest and the highest of
// what is below; whether blocks are written is no part of them.
constexpr std::size_t mapping_key = 20;
struct MappingKey {
  std::uint32_t start = 0;
  std::uint64_t owner = 0;
  std::uint64_t offset = 0;
  auto operator<=>(const MappingKey&) const = default;
};

MappingKey low_key(const ReverseMapping& mapping) {
  return {mapping.start.value(), mapping.owner.value(), mapping.offset.value() & ~not_written};
}

MappingKey high_key(const ReverseMapping& mapping) {
  MappingKey key = low_key(mapping);
  const std::uint32_t more = mapping.count.value() - 1;
  key.start += more;
  if (static_cast<std::int64_t>(key.owner) > 0 && (key.offset & of_extent_tree) == 0)
    key.offset += more;
  return key;
}

void put_key(ByteSpan out, std::size_t at, const MappingKey& key) {
  put_at(out, at, Be32(key.start));
  put_at(out, at + 4, Be64(key.owner));
  put_at(out, at + 12, Be64(key.offset));
}

MappingKey key_at(ConstByteSpan bytes, std::size_t at) {
  return {parse_as<Be32>(bytes, at).value(), parse_as<Be64>(bytes, at + 4).value(),
          parse_as<Be64>(bytes, at + 12).value() & ~not_written};
}

}  // namespace

Buffer tree_key(Tree tree, unsigned level, ConstByteSpan data, std::size_t count) {
  const TreeShape shape = shape_of(tree);
  Buffer key(shape.key);
  if (count == 0) return key;
  if (tree != Tree::reverse_map) {
    std::copy_n(data.begin(), shape.key, key.begin());
    return key;
  }
  MappingKey low{};
  MappingKey high{};
  for (std::size_t i = 0; i < count; ++i) {
    const bool leaf = level == 0;
    const ReverseMapping record =
        leaf ? parse_as<ReverseMapping>(data, i * shape.record) : ReverseMapping{};
    if (i == 0) low = leaf ? low_key(record) : key_at(data, 0);
    high = std::max(high, leaf ? high_key(record) : key_at(data, i * shape.key + mapping_key));
  }
  put_key(key, 0, low);
  put_key(key, mapping_key, high);
  return key;
}

bool is_tree_key(Tree tree, ConstByteSpan written, ConstByteSpan key) {
  if (tree != Tree::reverse_map) return std::equal(written.begin(), written.end(), key.begin());
  // Some guests have noted in it whether blocks are written.
  return key_at(written, 0) == key_at(key, 0) &&
         key_at(written, mapping_key) == key_at(key, mapping_key);
}

}  // namespace jh::xfs
