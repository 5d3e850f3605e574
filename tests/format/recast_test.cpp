// Every form into every form, in memory: equal content, what is zero takes no room, compressed
// images read back.
#include "core/container/fill.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

std::vector<Kind> all_kinds() {
  std::vector<Kind> all = kinds();
  all.push_back({"Qcow2Packed", ImageFormat::qcow2, Allocation::compressed});
  all.push_back({"VmdkPacked", ImageFormat::vmdk, Allocation::compressed});
  return all;
}

constexpr std::uint64_t disk_size = 24U << 20;

// Words, noise that no packing makes smaller, single bytes, and much nothing.
std::unique_ptr<MemoryImage> source() {
  auto image = new_image(wanted(kinds().front(), disk_size));
  std::mt19937 random(20261123);
  Store& disk = image->container->disk();
  for (int i = 0; i < 60; ++i) {
    Buffer data(1 + random() % 200000);
    const int kind = i % 3;
    for (std::size_t at = 0; at < data.size(); at += kind == 0 ? 4000 : 1)
      data[at] = static_cast<std::uint8_t>(kind == 1 ? random() : at / 64);
    disk.write(random() % (disk_size / 3 - data.size()) * (i % 2 + 1), data);
  }
  disk.write(disk_size - 1, Buffer(1, 7));
  return image;
}

std::unique_ptr<MemoryImage> recast(MemoryImage& from, const Kind& kind) {
  if (kind.allocation != Allocation::compressed) {
    auto image = new_image(wanted(kind, disk_size));
    fill_disk(*from.container, *image->container, silent);
    image->open();
    return image;
  }
  auto image = std::make_unique<MemoryImage>();
  image->main = &image->files.create("/moor/guest.img");
  fill_compressed(*from.container, *image->main, wanted(kind, disk_size), silent);
  image->open();
  return image;
}

// The same disk, of blocks that the two images share as far as was said before.
void expect_shared(ImageReader& from, ImageReader& original, const Kind& kind) {
  if (kind.allocation == Allocation::compressed) return;
  const Transferred planned = shareable(from);
  for (const bool find_zeros : {false, true}) {
    if (find_zeros && kind.format != ImageFormat::raw && !takes_all()) continue;
    const auto shared = new_image(wanted(kind, disk_size));
    const Transferred done = share_disk(from, *shared->container, find_zeros, silent);
    shared->open();
    compare_disks(original, *shared->container, silent);
    EXPECT_EQ(audited(*shared->container), "");
    if (find_zeros) {
      EXPECT_LE(done.shared + done.copied, planned.shared + planned.copied);
      EXPECT_LE(bytes_kept(*shared->container), bytes_kept(from));
    } else {
      EXPECT_EQ(done.shared, planned.shared);
      EXPECT_EQ(done.copied, planned.copied);
    }
  }
}

class RecastMatrix : public testing::TestWithParam<Kind> {};

TEST_P(RecastMatrix, IntoEveryForm) {
  const auto original = source();
  const std::uint64_t kept = bytes_kept(*original->container);
  const auto first = recast(*original, GetParam());
  compare_disks(*original->container, *first->container, silent);
  for (const Kind& kind : all_kinds()) {
    SCOPED_TRACE(kind.name);
    const auto second = recast(*first, kind);
    compare_disks(*original->container, *second->container, silent);
    EXPECT_EQ(audited(*second->container), "");
    if (kind.format == ImageFormat::raw) {
      EXPECT_LE(bytes_kept(*second->container), kept);
    }
    const auto again = recast(*first, kind);
    EXPECT_TRUE(again->main->same_content(*second->main)) << "not the same bytes twice";
    expect_shared(*first->container, *original->container, kind);
  }
}

INSTANTIATE_TEST_SUITE_P(From, RecastMatrix, testing::ValuesIn(all_kinds()), by_name);

TEST(Recast, ADifferenceIsFound) {
  const auto original = source();
  const auto copy = recast(*original, kinds()[1]);
  compare_disks(*original->container, *copy->container, silent);
  copy->container->make_ready();
  Buffer byte = read_buffer(copy->container->disk(), disk_size / 2, 1);
  byte[0] ^= 1;
  copy->container->disk().write(disk_size / 2, byte);
  EXPECT_THROW(compare_disks(*original->container, *copy->container, silent), Error);
}

}  // namespace
}  // namespace jh::test
