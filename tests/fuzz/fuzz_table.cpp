// MBR and GPT: reading, and every change that growing makes.
#include "core/table/table.h"
#include "fuzz_base.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore disk = fuzz::changed_image("table", data, size);
  fuzz::expect_orderly([&] {
    const auto table = open_table(disk);
    if (!table) return;
    table->gaps();
    Findings findings;
    table->audit(disk, findings);
    if (!table->facts().blockers.empty()) return;
    disk.resize(disk.size() + (64U << 20));
    if (!table->facts().repairs.empty() && !table->must_move_spare()) table->repair(disk);
    table->cover_disk(disk);
    const auto partitions = table->facts().partitions;
    for (const Partition& partition : partitions) {
      const Sectors end = table->reach(*table->find(partition.number));
      if (end > table->find(partition.number)->end()) table->move_end(disk, partition.number, end);
    }
    // What was written must be a table without fault.
    const auto again = open_table(disk);
    ensure(again != nullptr && again->facts().blockers.empty(), "a grown table is sound");
    ensure(again->facts().partitions.size() == partitions.size(), "no partition is lost");
  });
  return 0;
}
