// What an image says must not make anybody walk for ever: every walk ends by what the image holds.
#include <gtest/gtest.h>

#include "core/container/qcow2/format.h"
#include "core/guest/registry.h"
#include "support/containers.h"

namespace jh::test {
namespace {

// Counts what is read of it.
class CountingStore final : public Store {
 public:
  explicit CountingStore(Store& below) : below_(below) {}
  std::uint64_t size() const override { return below_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override {
    bytes += out.size();
    below_.read(offset, out);
  }
  void write(std::uint64_t offset, ConstByteSpan data) override { below_.write(offset, data); }
  Range map(std::uint64_t offset, std::uint64_t length) override {
    return below_.map(offset, length);
  }
  void discard(std::uint64_t offset, std::uint64_t length) override {
    below_.discard(offset, length);
  }
  void flush() override {}
  void resize(std::uint64_t size) override { below_.resize(size); }
  std::string name() const override { return below_.name(); }
  std::uint64_t bytes = 0;

 private:
  Store& below_;
};

// 8,192 snapshots that all have the active state's tables: 64 of them, each read once for all.
TEST(Budget, TablesThatSnapshotsShareAreReadOnce) {
  constexpr std::uint64_t tables = 64;
  constexpr std::uint64_t reach = 512ULL << 20;  // of a table, with clusters of 64 KiB
  MemoryFileResolver files;
  MemoryStore& file = files.create("/moor/deep.qcow2");
  create_container(file, wanted({"", ImageFormat::qcow2, Allocation::sparse}, tables * reach),
                   &files);
  {
    const auto image = open_container(file, &files);
    for (std::uint64_t i = 0; i < tables; ++i) image->disk().write(i * reach, Buffer(512, 7));
  }
  auto header = read_as<qcow2::Header>(file, 0);
  Buffer list;
  for (std::uint32_t i = 0; i < qcow2::max_snapshots; ++i) {
    qcow2::SnapshotEntry entry{};
    entry.l1_table_offset = header.l1_table_offset.value();
    entry.l1_size = header.l1_size.value();
    const ConstByteSpan bytes = bytes_of(entry);
    list.insert(list.end(), bytes.begin(), bytes.end());
  }
  const std::uint64_t at = round_up(file.size(), 65536);
  file.resize(at + round_up(list.size(), 65536));
  file.write(at, list);
  header.snapshots = qcow2::max_snapshots;
  header.snapshots_offset = at;
  file.write(0, bytes_of(header));
  CountingStore counting(file);
  Findings findings;
  open_container(counting, &files)->audit(findings);
  // Each of its clusters has one owner by the counts, and 8,193 by the tables.
  EXPECT_FALSE(findings.clean());
  EXPECT_LT(counting.bytes, 4 * file.size());
  CountingStore again(file);
  const auto image = open_container(again, &files);
  EXPECT_EQ(image->kept_by_snapshots().size(), qcow2::max_snapshots);
  std::uint64_t ranges = 0;
  image->for_each_snapshot_range([&](std::uint64_t, std::uint64_t) { ++ranges; });
  EXPECT_EQ(ranges, qcow2::max_snapshots + 2 * tables);
  EXPECT_LT(again.bytes, 4 * file.size());
}

// Four lists, each of which names the next one 65,535 times.
TEST(Budget, ListsOfKeysNameNoMoreThanTheHiveHolds) {
  constexpr std::uint32_t entries = 65535;
  constexpr std::uint64_t bins = 4096;
  constexpr std::uint64_t list_size = 8 + 4ULL * entries;
  MemoryStore hive(round_up(bins + 4096 + 4 * round_up(list_size, 8), 4096));
  const auto put = [&](std::uint64_t offset, const auto& value) {
    hive.write(offset, bytes_of(value));
  };
  hive.write(0, Buffer{'r', 'e', 'g', 'f'});
  constexpr std::uint32_t root = 32;
  put(0x24, Le32(root));
  put(bins + root, Le32(static_cast<std::uint32_t>(-0x60)));
  hive.write(bins + root + 4, Buffer{'n', 'k'});
  put(bins + root + 4 + 0x14, Le32(1));
  std::uint32_t next = 4096;
  put(bins + root + 4 + 0x1C, Le32(next));
  for (int level = 0; level < 4; ++level) {
    const std::uint64_t here = bins + next;
    const auto below = static_cast<std::uint32_t>(next + round_up(list_size, 8));
    put(here, Le32(static_cast<std::uint32_t>(-static_cast<std::int64_t>(list_size))));
    const bool last = level == 3;
    hive.write(here + 4, last ? Buffer{'l', 'i', 0xFF, 0xFF} : Buffer{'r', 'i', 0xFF, 0xFF});
    Buffer places;
    for (std::uint32_t i = 0; i < entries; ++i) {
      const Le32 place(last ? root : below);
      const ConstByteSpan bytes = bytes_of(place);
      places.insert(places.end(), bytes.begin(), bytes.end());
    }
    hive.write(here + 8, places);
    next = below;
  }
  CountingStore counting(hive);
  expect_error(Status::damaged, "more keys than it can hold",
               [&] { read_drive_letters(counting); });
  EXPECT_LT(counting.bytes, 1ULL << 30);
}

}  // namespace
}  // namespace jh::test
