// btrfs: recognising, the audit, what is free, a file by its path, the files, plans. Sums are put
// right, so that what lies behind them is reached.
#include "core/fs/btrfs/volume.h"
#include "fuzz_base.h"

namespace {

using namespace jh;

fuzz::Places places;  // of the present input

// The superblock, and the blocks of the main trees.
fuzz::Places metadata_of(MemoryStore& image) {
  places = {{btrfs::superblock_places[0] + 32, 1200}};
  try {
    const btrfs::Volume volume(image);
    for (const std::uint64_t number :
         {btrfs::object::root_tree, btrfs::object::chunk_tree, btrfs::object::extent_tree,
          btrfs::object::device_tree, btrfs::object::free_space_tree, btrfs::object::top_files,
          btrfs::object::sum_tree})
      if (const auto root = volume.tree(number))
        places.push_back({volume.at(root->block, volume.node_size()) + 32, 1000});
  } catch (const Error&) {
    return places;
  }
  return places;
}

// Of what was changed; a copy is as good as the first.
void mend(MemoryStore& image) {
  const auto super = read_as<btrfs::Superblock>(image, btrfs::superblock_places[0]);
  const std::uint16_t type = super.sum_type.value();
  if (btrfs::checksum_size(type) == 0) return;
  const auto seal = [&](std::uint64_t at, std::uint64_t length) {
    if (at + length > image.size()) return;
    Buffer bytes = read_buffer(image, at, length);
    put_at(bytes, 0, btrfs::block_checksum(type, bytes));
    image.write(at, bytes);
  };
  seal(btrfs::superblock_places[0], sizeof(btrfs::Superblock));
  const std::uint64_t node = super.node_size.value();
  if (node < 4096 || node > 65536) return;
  for (std::size_t i = 1; i < places.size(); ++i) seal(places[i].first - 32, node);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  MemoryStore image = fuzz::changed_image("btrfs", data, size, metadata_of);
  mend(image);
  fuzz::look_into(image, AuditScope::content, "etc/fstab", [&](FilesystemOnDisk& fs) {
    fs.plan_resize(Bytes(image.size() * 2));
    fs.plan_resize(fs.floor().size);
    const auto tree = fs.tree();
    for (const FileTree::Root& root : tree->roots())
      for (const FileTree::Entry& entry : tree->entries(root.node)) tree->look(entry.node);
  });
  return 0;
}
