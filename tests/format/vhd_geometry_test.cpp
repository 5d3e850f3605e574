// A reader that takes a VHD's size from the geometry in its footer must see the whole disk: either
// the geometry names just that size, or the largest one there is sends it to the current size.
#include "core/container/vhd/format.h"
#include "core/container/vhd/vhd.h"
#include "core/store/memory_store.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

// The footer by its bytes: shared with nothing that wrote it.
struct Seen {
  std::uint64_t by_geometry = 0;
  std::uint64_t current = 0;
};
Seen seen_in(Store& file) {
  const Buffer footer = read_buffer(file, file.size() - 512, 512);
  Seen seen;
  for (int i = 0; i < 8; ++i) seen.current = seen.current << 8 | footer[48U + i];
  const std::uint64_t cylinders = std::uint64_t{footer[56]} << 8 | footer[57];
  seen.by_geometry = cylinders * footer[58] * footer[59] * 512;
  return seen;
}

void expect_whole(Store& file, std::uint64_t size) {
  constexpr std::uint64_t largest = 65535ULL * 16 * 255 * 512;
  const Seen seen = seen_in(file);
  EXPECT_EQ(seen.current, size);
  EXPECT_TRUE(seen.by_geometry == size || seen.by_geometry == largest) << size;
}

TEST(VhdGeometry, NamesTheWholeDiskNewGrownAndShrunk) {
  for (const Allocation allocation : {Allocation::sparse, Allocation::full})
    for (const std::uint64_t size : {3 * mib, 192 * mib, 504 * mib, 2048 * mib, 40'000 * mib}) {
      if (allocation == Allocation::full && size > 600 * mib) continue;
      MemoryStore file(0, "/m/a.vhd");
      NewContainer wanted;
      wanted.format = ImageFormat::vhd;
      wanted.allocation = allocation;
      wanted.disk_size = Bytes(size);
      create_container(file, wanted, nullptr);
      expect_whole(file, size);
      const auto container = open_container(file);
      container->make_ready();
      container->grow(Bytes(size + 64 * mib));
      expect_whole(file, size + 64 * mib);
      container->shrink(Bytes(size - mib));
      expect_whole(file, size - mib);
    }
}

}  // namespace
}  // namespace jh::test
