#include "core/table/table.h"

#include "core/table/gpt/gpt.h"
#include "core/table/mbr/mbr.h"
#include "support/test.h"

namespace jh::test {
namespace {

MemoryStore sample(const std::string& name) {
  const TempFolder folder;
  unpack_sample(name, folder / "a.img");
  return load(folder / "a.img");
}

TEST(Mbr, ReadsPrimaries) {
  MemoryStore disk = sample("heather");
  const auto table = open_table(disk);
  ASSERT_NE(table, nullptr);
  EXPECT_EQ(table->facts().kind, TableKind::mbr);
  EXPECT_EQ(table->facts().id, "ddd72600");
  ASSERT_EQ(table->facts().partitions.size(), 1U);
  const Partition& p1 = table->facts().partitions.front();
  EXPECT_EQ(p1.first, Sectors(2048));
  EXPECT_EQ(p1.end(), Sectors(393216));
  EXPECT_EQ(p1.part_uuid, "ddd72600-01");
}

TEST(Mbr, GrowsAndKeepsTheOldNotation) {
  MemoryStore disk = sample("heather");
  disk.resize(400ULL << 20);
  const auto table = open_table(disk);
  EXPECT_EQ(table->reach(table->facts().partitions.front()), Sectors(819200));
  table->move_end(disk, 1, Sectors(819200));
  const auto record = read_as<mbr::Record>(disk, 0);
  EXPECT_EQ(record.entries[0].sectors.value(), 819200U - 2048);
  // 16 heads, 63 sectors: sector 819199 is cylinder 812, head 11, sector 11.
  EXPECT_EQ(record.entries[0].end_chs, (mbr::Chs{11, 11 | 0xC0, 812 & 0xFF}));
}

TEST(Mbr, SaysItsLimit) {
  MemoryStore disk = sample("heather");
  disk.resize(3ULL << 40);
  const auto table = open_table(disk);
  EXPECT_EQ(table->reach(table->facts().partitions.front()), Sectors(1ULL << 32));
  EXPECT_FALSE(table->facts().notes.empty());
}

TEST(Mbr, IsNotSeenWhereThereIsNone) {
  MemoryStore disk(1 << 20);
  EXPECT_EQ(open_table(disk), nullptr);
  disk.write(510, Buffer{0x55, 0xAA});  // a boot sector without entries
  EXPECT_EQ(open_table(disk), nullptr);
}

TEST(Gpt, ReadsBothCopies) {
  MemoryStore disk = sample("nestcam");
  const auto table = open_table(disk);
  ASSERT_NE(table, nullptr);
  EXPECT_EQ(table->facts().kind, TableKind::gpt);
  ASSERT_EQ(table->facts().partitions.size(), 3U);
  EXPECT_TRUE(table->facts().repairs.empty());
  EXPECT_TRUE(table->facts().blockers.empty());
  EXPECT_FALSE(table->must_move_spare());
  EXPECT_EQ(table->facts().partitions[1].label, "boot-fw");
  EXPECT_EQ(table->facts().partitions[2].type_name, "Linux");
}

TEST(Gpt, MovesTheSpareCopy) {
  MemoryStore disk = sample("nestcam");
  const std::uint64_t old_last = disk.size() / 512 - 1;
  disk.resize(500ULL << 20);
  const auto table = open_table(disk);
  EXPECT_TRUE(table->must_move_spare());
  table->cover_disk(disk);
  EXPECT_EQ(read_buffer(disk, old_last * 512, 512), Buffer(512)) << "the old copy is wiped";
  const auto again = open_table(disk);
  EXPECT_FALSE(again->must_move_spare());
  EXPECT_TRUE(again->facts().repairs.empty());
  EXPECT_EQ(again->facts().usable_end, Sectors(1024000 - 33));
  const auto record = read_as<mbr::Record>(disk, 0);
  EXPECT_EQ(record.entries[0].sectors.value(), 1024000U - 1) << "protective MBR";
}

TEST(Gpt, IsReadFromEitherCopyAndRepaired) {
  for (const bool damage_first : {true, false}) {
    MemoryStore disk = sample("nestcam");
    const std::uint64_t last = disk.size() / 512 - 1;
    const Buffer first = read_buffer(disk, 512, 512);
    const Buffer spare = read_buffer(disk, last * 512, 512);
    const std::uint64_t at = (damage_first ? 1 : last) * 512 + 60;
    disk.write(at, Buffer{0x5A});
    const auto table = open_table(disk);
    ASSERT_NE(table, nullptr);
    EXPECT_EQ(table->facts().partitions.size(), 3U);
    ASSERT_EQ(table->facts().repairs.size(), 1U);
    Findings findings;
    table->audit(disk, findings);
    EXPECT_EQ(findings.count(), 1U);
    table->repair(disk);
    EXPECT_EQ(read_buffer(disk, 512, 512), first);
    EXPECT_EQ(read_buffer(disk, last * 512, 512), spare);
  }
}

TEST(Gpt, BothCopiesDamagedIsRefused) {
  MemoryStore disk = sample("nestcam");
  disk.write(512 + 60, Buffer{0x5A});
  disk.write((disk.size() / 512 - 1) * 512 + 60, Buffer{0x5A});
  EXPECT_THROW(open_table(disk), Error);
}

TEST(Gpt, HybridIsABlocker) {
  MemoryStore disk = sample("nestcam");
  auto record = read_as<mbr::Record>(disk, 0);
  record.entries[1].type = 0x83;
  record.entries[1].start_lba = 102400;
  record.entries[1].sectors = 2048;
  disk.write(0, bytes_of(record));
  const auto table = open_table(disk);
  ASSERT_EQ(table->facts().blockers.size(), 1U);
  EXPECT_EQ(table->facts().blockers.front().status(), Status::unsupported);
}

// Each byte of the table's structures, wrong in three ways: never a crash, never a table that
// silently differs.
TEST(Tables, EveryByteWrong) {
  for (const char* name : {"heather", "nestcam"}) {
    const MemoryStore whole = sample(name);
    MemoryStore original(whole, "original");
    const std::string good = open_table(original)->facts().partitions.back().part_uuid;
    for (std::uint64_t at = 0; at < 2048; ++at) {
      for (const std::uint8_t change : {0x01, 0x80, 0xFF}) {
        MemoryStore disk(whole, "changed");
        Buffer byte = read_buffer(disk, at, 1);
        byte[0] ^= change;
        disk.write(at, byte);
        try {
          const auto table = open_table(disk);
          if (!table) continue;
          table->gaps();
          for (const Partition& p : table->facts().partitions) {
            EXPECT_GE(table->reach(p), p.end());
            if (table->facts().blockers.empty()) {
              EXPECT_LE(p.end(), table->facts().disk);
            }
          }
        } catch (const Error& error) {
          EXPECT_NE(error.status(), Status::internal) << name << " byte " << at;
        }
      }
    }
  }
}

}  // namespace
}  // namespace jh::test
