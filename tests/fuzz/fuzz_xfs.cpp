// XFS: recognising, the audit, what is free, a file by its path, a plan. Sums are put right, so
// that what lies behind them is reached.
#include "core/fs/xfs/format.h"
#include "core/fs/xfs/geometry.h"
#include "fuzz_base.h"

namespace {

using namespace jh;

// Headers and roots of the first group, and the first inodes.
fuzz::Places metadata_of(MemoryStore& image) {
  fuzz::Places places{{0, 264}, {512, 224}, {1024, 344}, {1536, 100}};
  try {
    const xfs::Geometry geometry(image);
    for (std::uint64_t i = 0; i < geometry.blocks_of_empty_group(); ++i)
      places.push_back({geometry.block_at(0U, geometry.header_blocks() + i), 400});
    const std::uint64_t root = geometry.superblock().root_inode.value();
    places.push_back({geometry.block_at(root >> geometry.superblock().inodes_per_block_log), 4096});
  } catch (const Error&) {
    return places;
  }
  return places;
}

void mend(MemoryStore& image, std::uint64_t at, std::uint64_t length, std::size_t sum) {
  if (at + length > image.size()) return;
  Buffer bytes = read_buffer(image, at, length);
  xfs::set_checksum(bytes, sum);
  image.write(at, bytes);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  MemoryStore image = fuzz::changed_image("xfs", data, size, metadata_of);
  mend(image, 0, 512, offsetof(xfs::Superblock, checksum));
  mend(image, 512, 512, offsetof(xfs::FreeSpaceHeader, checksum));
  mend(image, 1024, 512, offsetof(xfs::InodeHeader, checksum));
  mend(image, 1536, 512, offsetof(xfs::FreeListHeader, checksum));
  for (std::uint64_t block = 1; block < 8; ++block)
    mend(image, block * 4096, 4096, offsetof(xfs::TreeHeader, checksum));
  fuzz::look_into(image, AuditScope::full, "etc/fstab",
                  [&](FilesystemOnDisk& fs) { fs.plan_resize(Bytes(image.size() * 2)); });
  return 0;
}
