#include "core/fs/btrfs/volume.h"

#include "core/fs/text_at.h"

namespace jh::btrfs {

bool Volume::recognise(Store& place) {
  return holds(place, superblock_places[0] + offsetof(Superblock, magic), "_BHRfS_M");
}

void Volume::read_again() {
  read_super();
  std::vector<std::pair<std::uint64_t, Buffer>> items;
  for_each_item(*this, chunk_tree(), {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.type == item::chunk) items.emplace_back(key.offset, Buffer(data.begin(), data.end()));
  });
  set_chunks(items);
}

std::optional<Root> Volume::tree(std::uint64_t number) const {
  if (number == object::root_tree) return root_tree();
  if (number == object::chunk_tree) return chunk_tree();
  std::optional<Root> found;
  for_each_item(*this, root_tree(), {number, item::root, 0}, {number, item::root, UINT64_MAX},
                [&](const Key&, ConstByteSpan data) {
                  if (data.size() < sizeof(RootItem)) corrupt("the item of a tree is too short");
                  const auto root = parse_as<RootItem>(data, 0);
                  found = Root{root.block.value(), root.generation.value(), root.level};
                });
  return found;
}

}  // namespace jh::btrfs
