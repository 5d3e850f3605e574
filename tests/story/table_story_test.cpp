// Tables of many shapes through the built program, judged by a general archiver's reading of them.
#include "core/base/checksum.h"
#include "core/store/file_store.h"
#include "core/table/gpt/format.h"
#include "core/table/mbr/format.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

struct GptShape {
  std::uint32_t sector = 512;
  std::uint32_t entries = 128;
  std::uint32_t entry_size = 128;
};

// A disk of 100 MiB with one partition of 40 MiB at 1 MiB, written by the book.
void make_gpt(const std::string& path, const GptShape& shape) {
  make_sparse_file(path, 100 * mib);
  FileStore file(path, Access::read_write);
  const std::uint64_t last = file.size() / shape.sector - 1;
  const std::uint64_t array_bytes = std::uint64_t{shape.entries} * shape.entry_size;
  const std::uint64_t array_sectors = (array_bytes + shape.sector - 1) / shape.sector;
  Buffer array(array_sectors * shape.sector);
  gpt::Entry entry{};
  entry.type = {0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47,
                0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4};
  entry.id = {1, 2, 3};
  entry.first_lba = mib / shape.sector;
  entry.last_lba = 41 * mib / shape.sector - 1;
  entry.attributes = 0;
  put_at(array, 0, entry);
  const auto put_copy = [&](std::uint64_t lba, std::uint64_t other, std::uint64_t array_lba) {
    gpt::Header header{};
    header.signature = gpt::signature;
    header.revision = 0x10000;
    header.header_size = 92;
    header.header_crc = 0;
    header.reserved = 0;
    header.my_lba = lba;
    header.alternate_lba = other;
    header.first_usable_lba = 2 + array_sectors;
    header.last_usable_lba = last - array_sectors - 1;
    header.disk_guid = {9, 9, 9};
    header.entries_lba = array_lba;
    header.entry_count = shape.entries;
    header.entry_size = shape.entry_size;
    header.entries_crc = crc32(ConstByteSpan(array).first(array_bytes));
    header.header_crc = crc32(bytes_of(header));
    file.write(lba * shape.sector, bytes_of(header));
    file.write(array_lba * shape.sector, array);
  };
  put_copy(1, last, 2);
  put_copy(last, 1, last - array_sectors);
  mbr::Record record{};
  record.signature = mbr::boot_signature;
  record.entries[0].type = mbr::type_protective;
  record.entries[0].start_lba = 1;
  record.entries[0].sectors = static_cast<std::uint32_t>(last);
  file.write(0, bytes_of(record));
}

class GptShapes : public testing::TestWithParam<GptShape> {};

TEST_P(GptShapes, Grow) {
  const TempFolder folder;
  const std::string image = folder / "guest.img";
  make_gpt(image, GetParam());
  make_ext(folder / "fs", 40 * mib, {"-b", "4096"});
  poke(image, mib, read_file(folder / "fs"));
  ASSERT_EQ(juneheath({"audit", image}).status, 0) << juneheath({"audit", image}).out;
  // The rest of the disk first, then more disk.
  succeeds({"grow", image});
  succeeds({"grow", image, "--to", "300MiB"});
  EXPECT_EQ(check_ext(image, mib), "");
  expect_status(0, {"audit", image});
  // To the last whole MiB before the backup copy.
  const std::map<std::uint64_t, std::uint64_t> expected{{mib, 298 * mib}};
  if (GetParam().sector == 512) {
    EXPECT_EQ(listed_partitions(image, "GPT"), expected);
  }
}

INSTANTIATE_TEST_SUITE_P(Shapes, GptShapes,
                         testing::Values(GptShape{}, GptShape{4096, 128, 128},
                                         GptShape{512, 128, 256}, GptShape{512, 16, 128},
                                         GptShape{512, 1024, 128}, GptShape{4096, 8, 512}),
                         [](const auto& test) {
                           return fmt::format("s{}_n{}_e{}", test.param.sector, test.param.entries,
                                              test.param.entry_size);
                         });

TEST(Tables, ALogicalPartitionGrowsWithItsExtendedOne) {
  const TempFolder folder;
  const std::string image = unpack_sample("mbr-extended", folder / "guest.img");
  const std::uint32_t digest = file_digest(image);
  const auto before = listed_partitions(image, "MBR");
  ASSERT_EQ(before.size(), 3U);
  const std::uint64_t root = before.begin()->first;
  const std::uint64_t data = before.rbegin()->first;
  Facts tree;
  if (can_mount()) tree = tree_facts(Mounted(image, data).path());
  succeeds({"grow", image, "--by", "300MiB", "--give", "/srv"},
           {"the extended partition grows along"});
  auto expected = before;
  expected[data] += 300 * mib;
  EXPECT_EQ(listed_partitions(image, "MBR"), expected);
  EXPECT_EQ(check_ext(image, data), "");
  EXPECT_EQ(check_ext(image, root), "");
  if (can_mount()) {
    EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(image, data).path())), "");
  }
  expect_status(0, {"audit", image});
  succeeds({"undo", image});
  EXPECT_EQ(file_digest(image), digest);
}

TEST(Tables, OneDamagedGptCopyIsRepairedOnChange) {
  for (const bool first_copy : {true, false}) {
    const TempFolder folder;
    const std::string image = unpack_sample("nestcam", folder / "guest.img");
    poke(image, first_copy ? 512 + 40 : (320 * mib - 512) + 40, "\x77");
    expect_status(4, {"audit", image});
    expect_said({"survey", image}, {"the next change puts it right"});
    succeeds({"grow", image, "--by", "200MiB", "--give", "/"}, {"repair: "});
    expect_status(0, {"audit", image});
    EXPECT_EQ(check_ext(image, 52428800), "");
  }
}

// The proof asks of every byte outside of partitions whose it is: also of a copy that was no copy.
TEST(Tables, ADamagedSpareCopyDoesNotStopTheDiskFromGrowing) {
  const TempFolder folder;
  const std::string image = folder / "spare.img";
  make_gpt(image, {});
  {
    FileStore file(image, Access::read_write);
    const Buffer noise(33 * 512, 0x5A);
    file.write(file.size() - noise.size(), noise);
  }
  expect_status(0, {"grow", image, "--by", "20MiB", "--give", "nothing"});
  expect_status(0, {"audit", image});
}

// An MBR does not tell the size of its sectors: what the user says of it holds for every disk, up
// to the proof.
TEST(Tables, TheSectorSizeIsForAllDisks) {
  const TempFolder folder;
  Words images;
  for (const char* name : {"first.img", "second.img"}) {
    images.push_back(folder / name);
    make_sparse_file(images.back(), 100 * mib);
    FileStore file(images.back(), Access::read_write);
    mbr::Record record{};
    record.signature = mbr::boot_signature;
    record.entries[0].type = 0x83;
    record.entries[0].start_lba = 256;
    record.entries[0].sectors = 10 * 256;
    file.write(0, bytes_of(record));
  }
  succeeds({"grow", images[0], images[1], "--disk", "2", "--by", "20MiB", "--give", "2:p1",
            "--sector-size", "4096"});
  const auto survey =
      juneheath({"survey", images[0], images[1], "--sector-size", "4096", "--json"}).out;
  EXPECT_THAT(survey, HasSubstr(std::to_string(119 * mib)));
  // Taken for sectors of 512 bytes, as a survey without the word does, it is an eighth of that.
  expect_status(0, {"undo", images[0], images[1]});
}

TEST(Tables, WhatCannotBeTrustedIsRefused) {
  const TempFolder folder;
  const auto refused = [&](const std::string& image, int status, const std::string& words) {
    const std::uint32_t before = file_digest(image);
    const ProgramResult outcome = juneheath({"grow", image, "--by", "100MiB"});
    EXPECT_EQ(outcome.status, status) << outcome.out << outcome.err;
    EXPECT_TRUE(outcome.said(words)) << outcome.err;
    EXPECT_EQ(file_digest(image), before);
    EXPECT_FALSE(files::exists(image + ".juneheath"));
  };
  const auto fresh = [&](const std::string& name, const std::string& sample) {
    unpack_sample(sample, folder / name);
    return folder / name;
  };
  const std::string both = fresh("both.img", "nestcam");
  poke(both, 512 + 40, "\x77");
  poke(both, 320 * mib - 512 + 40, "\x77");
  refused(both, 4, "both copies of the GPT are damaged");
  const std::string hybrid = fresh("hybrid.img", "nestcam");
  poke(hybrid, 446 + 16, std::string("\0\0\0\0\x83\0\0\0\0\x10\0\0\0\x20\0\0", 16));
  refused(hybrid, 6, "hybrid");
  const std::string outside = fresh("outside.img", "heather");
  poke(outside, 446 + 12, std::string("\0\0\x70\0", 4));
  refused(outside, 4, "past the disk");
  const std::string overlap = fresh("overlap.img", "heather");
  poke(overlap, 446 + 16, std::string("\0\0\0\0\x83\0\0\0\0\x10\0\0\0\x20\0\0", 16));
  refused(overlap, 4, "overlap");
  const std::string chain = fresh("chain.img", "mbr-extended");
  // The extended partition's first record loses its signature.
  poke(chain, 301 * mib + 510, std::string(2, '\0'));
  refused(chain, 4, "has no signature");
}

}  // namespace
}  // namespace jh::test
