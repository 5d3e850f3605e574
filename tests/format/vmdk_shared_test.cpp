// VMDK disks whose flat extents share a file, as the published layout allows: each names its place
// in it. What one of them gives up must not take the others' bytes along.
#include "core/base/errors.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

class SharedFile : public testing::Test {
 protected:
  // 4 MiB at the front of the disk, 2 MiB behind them; `lines` say where in the file they lie.
  void make(const std::string& type, const std::string& lines, std::uint64_t file_size) {
    const std::string text = fmt::format(
        "# Disk DescriptorFile\nversion=1\nCID=4711abcd\nparentCID=ffffffff\ncreateType=\"{}\"\n{}"
        "ddb.geometry.heads = \"16\"\nddb.geometry.sectors = \"63\"\nddb.adapterType = \"ide\"\n",
        type, lines);
    image_.main = &image_.files.create("/moor/guest.vmdk");
    image_.main->resize(text.size());
    image_.main->write(0, Buffer(text.begin(), text.end()));
    flat().resize(file_size);
  }
  MemoryStore& flat() {
    if (image_.files.part("/moor/rings.bin") == nullptr) image_.files.create("/moor/rings.bin");
    return dynamic_cast<MemoryStore&>(*image_.files.part("/moor/rings.bin"));
  }
  void open_and_fill() {
    image_.open();
    ASSERT_EQ(image_.container->disk().size(), 6 * mib);
    content_.resize(6 * mib);
    for (std::size_t i = 0; i < content_.size(); ++i)
      content_[i] = static_cast<std::uint8_t>(1 + i / 4096 % 251);
    image_.container->disk().write(0, content_);
  }
  // What the disk had is there as far as it goes; what it did not have is zeros.
  void expect_content(std::uint64_t kept, std::uint64_t size) {
    image_.open();
    ASSERT_EQ(image_.container->disk().size(), size);
    Buffer wanted(content_.begin(), content_.begin() + static_cast<std::ptrdiff_t>(kept));
    wanted.resize(size);
    EXPECT_TRUE(read_buffer(image_.container->disk(), 0, size) == wanted);
  }
  // Afterwards the disk has `size` bytes, all as they were, and the file `file_size`.
  void expect_shrunk(std::uint64_t size, std::uint64_t file_size) {
    image_.container->make_ready();
    image_.container->shrink(Bytes(size));
    EXPECT_EQ(flat().size(), file_size);
    expect_content(size, size);
  }
  MemoryImage image_;
  Buffer content_;
};

const char* in_order = "RW 8192 FLAT \"rings.bin\" 0\nRW 4096 FLAT \"rings.bin\" 8192\n";
const char* in_reverse = "RW 8192 FLAT \"rings.bin\" 4096\nRW 4096 FLAT \"rings.bin\" 0\n";

TEST_F(SharedFile, InOrderItEndsWithTheDisk) {
  make("custom", in_order, 6 * mib);
  open_and_fill();
  EXPECT_EQ(image_.container->facts().file_length.value(), 6 * mib + image_.main->size());
  expect_shrunk(5 * mib, 5 * mib);
  expect_shrunk(3 * mib, 3 * mib);  // the second extent goes, its file is the first one's too
  image_.grow(Bytes(8 * mib));
  expect_content(3 * mib, 8 * mib);
}

TEST_F(SharedFile, InReverseTheOtherOneKeepsItsBytes) {
  make("custom", in_reverse, 6 * mib);
  open_and_fill();
  expect_shrunk(5 * mib, 6 * mib);  // the first extent lies behind
  expect_error(Status::refused, "another one lies behind",
               [&] { image_.container->check_growth(Bytes(6 * mib)); });
  expect_shrunk(3 * mib, 5 * mib);
  image_.grow(Bytes(8 * mib));
  expect_content(3 * mib, 8 * mib);
}

TEST_F(SharedFile, PiecesInReverseGrowByANewOne) {
  make("twoGbMaxExtentFlat", in_reverse, 6 * mib);
  open_and_fill();
  image_.container->check_growth(Bytes(9 * mib));
  EXPECT_EQ(image_.container->new_parts(Bytes(9 * mib)).size(), 1U);
  image_.grow(Bytes(9 * mib));
  EXPECT_EQ(flat().size(), 6 * mib);
  expect_content(6 * mib, 9 * mib);
}

TEST_F(SharedFile, WhatLiesBehindInTheFileIsNotNewCapacity) {
  make("monolithicFlat", "RW 12288 FLAT \"rings.bin\" 2048\n", 10 * mib);
  flat().write(0, Buffer(10 * mib, 0xee));
  open_and_fill();
  image_.grow(Bytes(12 * mib));
  expect_content(6 * mib, 12 * mib);
  EXPECT_EQ(read_buffer(flat(), 0, mib), Buffer(mib, 0xee));
}

TEST_F(SharedFile, TwoInOnePlaceAreRefused) {
  for (const std::string lines :
       {"RW 8192 FLAT \"rings.bin\" 0\nRW 4096 FLAT \"rings.bin\" 8191\n",
        "RW 8192 FLAT \"rings.bin\" 0\nRW 4096 FLAT \"guest.vmdk\" 0\n",
        "RW 4096 FLAT \"rings.bin\" 100\nRW 4096 FLAT \"rings.bin\" 100\n"}) {
    make("custom", lines, 8 * mib);
    image_.main->resize(4 * mib);
    expect_error(Status::damaged, "in the same place of one file", [&] { image_.open(); });
  }
  create_container(flat(), wanted({"", ImageFormat::vmdk, Allocation::sparse}, 4 * mib),
                   &image_.files);
  make("custom", "RW 8192 SPARSE \"rings.bin\"\nRW 8192 SPARSE \"rings.bin\"\n", flat().size());
  expect_error(Status::damaged, "in the same place of one file", [&] { image_.open(); });
}

}  // namespace
}  // namespace jh::test
