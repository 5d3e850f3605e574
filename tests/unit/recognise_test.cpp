// What a file or a partition holds is told by its content, never by its name.
#include "core/container/recognise.h"

#include <gtest/gtest.h>

#include "core/container/container.h"
#include "core/fs/ext/ext.h"
#include "core/guest/content.h"
#include "core/store/memory_store.h"

namespace jh::test {
namespace {

MemoryStore with(std::uint64_t size, std::uint64_t offset, const std::string& bytes) {
  MemoryStore store(size);
  store.write(offset, {reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size()});
  return store;
}

TEST(Recognise, ContainerForms) {
  const auto format = [](std::uint64_t offset, const std::string& bytes) {
    MemoryStore file = with(1 << 20, offset, bytes);
    return std::string(format_name(recognise_format(file)));
  };
  EXPECT_EQ(format(0, "QFI\xfb"), "qcow2");
  EXPECT_EQ(format(0x40, "\x7f\x10\xda\xbe"), "VDI");
  EXPECT_EQ(format(0, "KDMV"), "VMDK");
  EXPECT_EQ(format(0, "# Disk DescriptorFile\nversion=1"), "VMDK");
  EXPECT_EQ(format(0, "conectix"), "VHD");
  EXPECT_EQ(format((1 << 20) - 512, "conectix"), "VHD");
  EXPECT_EQ(format(0, "vhdxfile"), "VHDX");
  EXPECT_EQ(format(0, "conect"), "raw");
  EXPECT_EQ(format(7, "QFI\xfb"), "raw");
}

TEST(Recognise, OnlyRawIsOpened) {
  MemoryStore other = with(1 << 20, 0, "vhdxfile");
  EXPECT_THROW(open_container(other), Error);
  MemoryStore odd(1'000'000);  // not a whole number of sectors
  const auto raw = open_container(odd);
  EXPECT_EQ(raw->disk().size(), 999'936U);
  EXPECT_EQ(raw->facts().notes.size(), 1U);
  raw->grow(Bytes(2'000'384));
  EXPECT_EQ(raw->disk().size(), 2'000'384U);
  MemoryStore tiny(100);
  EXPECT_THROW(open_container(tiny), Error);
  EXPECT_THROW(raw->check_growth(Bytes(UINT64_MAX)), Error);
}

TEST(Recognise, Contents) {
  const auto kind = [](std::uint64_t offset, const std::string& bytes) {
    MemoryStore place = with(1 << 20, offset, bytes);
    return recognise_content(place).kind;
  };
  const auto filesystem = [](std::uint64_t offset, const std::string& bytes) {
    MemoryStore place = with(1 << 20, offset, bytes);
    const Content content = recognise_content(place);
    EXPECT_EQ(content.kind, ContentKind::filesystem);
    return std::string(content.filesystem_kind()->name);
  };
  EXPECT_EQ(filesystem(0, "XFSB"), "XFS");
  EXPECT_EQ(filesystem(65600, "_BHRfS_M"), "btrfs");
  EXPECT_EQ(filesystem(3, "NTFS    "), "NTFS");
  EXPECT_EQ(filesystem(82, "FAT32"), "FAT32");
  EXPECT_EQ(filesystem(54, "FAT16"), "FAT");
  EXPECT_EQ(filesystem(4086, "SWAPSPACE2"), "swap");
  EXPECT_EQ(kind(512, "LABELONE" + std::string(16, '\0') + "LVM2 001"),
            ContentKind::physical_volume);
  EXPECT_EQ(kind(0, "LUKS\xba\xbe"), ContentKind::encrypted);
  EXPECT_EQ(kind(5000, "something"), ContentKind::unknown);
  EXPECT_EQ(kind(5000, ""), ContentKind::nothing);
  // The signature of ext and nothing else is a damaged filesystem, not a crash.
  MemoryStore place = with(1 << 20, 1024 + 0x38, "\x53\xEF");
  const Content content = recognise_content(place);
  EXPECT_EQ(content.filesystem_kind(), &ext::kind);
  ASSERT_FALSE(content.blockers.empty());
  EXPECT_EQ(content.blockers.front().status(), Status::damaged);
}

TEST(Recognise, PlacesTooSmallForAnything) {
  for (const std::uint64_t size : {1ULL, 100ULL, 512ULL, 1024ULL, 2047ULL, 2048ULL}) {
    MemoryStore place(size);
    EXPECT_EQ(recognise_content(place).kind, ContentKind::nothing) << size;
  }
}

}  // namespace
}  // namespace jh::test
