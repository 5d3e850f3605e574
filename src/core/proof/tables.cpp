#include "core/proof/tables.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/proof/verdict.h"

namespace jh {
namespace {

// `old`: null when the change makes it.
void check_partition(std::uint32_t number, const Layout::PartitionPlace& planned,
                     const Partition* old, const Partition* now, const std::string& where) {
  if (now == nullptr || now->first != planned.first || now->end() != planned.end ||
      now->role != planned.role)
    proof_failed(fmt::format("partition {} is not as planned", number), where);
  if (old == nullptr) {
    if (!planned.created || now->purpose != PartitionPurpose::lvm)
      proof_failed(fmt::format("the new partition {} is not as planned", number), where);
    return;
  }
  if (now->type_code != old->type_code || now->part_uuid != old->part_uuid ||
      now->label != old->label)
    proof_failed(fmt::format("partition {} is not as planned", number), where);
}

void check_table(const PartitionTable* old, const PartitionTable& now,
                 const Layout::TablePlace& planned, bool changes, bool spare_is_right,
                 const std::string& where) {
  const TableFacts& facts = now.facts();
  if (!facts.blockers.empty()) proof_failed(facts.blockers.front().what(), where);
  if (changes && (!facts.repairs.empty() || !spare_is_right))
    proof_failed("the partition table is not in order", where);
  if (!planned.fresh && facts.kind == TableKind::gpt && facts.known_end != planned.known_end)
    proof_failed("the partition table knows another end of the disk", where);
  if (facts.partitions.size() != planned.partitions.size())
    proof_failed("the number of partitions differs", where);
  for (const auto& [number, place] : planned.partitions)
    check_partition(number, place, old == nullptr ? nullptr : old->find(number), now.find(number),
                    where);
}

// Of disks that are kept in layers.
void check_inner_tables(const Guest& before, const Guest& after, const Plan& plan) {
  for (const Layer* old : before.layers()) {
    if (!old->table) continue;
    const std::string where = before.name_of(*old);
    const Layer* now = after.find(old->id);
    if (now == nullptr || !now->table) proof_failed("the partition table is gone", where);
    const bool changes = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
      return step.layer.outer() == old->id && step.is<step::GrowPartition>();
    });
    check_table(old->table.get(), *now->table, plan.after.tables.at(old->id), changes,
                !now->table->must_move_spare(), where);
  }
}

}  // namespace

void check_tables(const Guest& before, const Guest& after, const Plan& plan) {
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& disk = after.disks()[i];
    if (disk.size() != plan.after.disks.at(i))
      proof_failed(fmt::format("the disk has {} bytes", disk.size().value()), disk.path);
    if (disk.trouble) proof_failed(disk.trouble->what(), disk.path);
    const Layout::TablePlace* planned = plan.after.table_on(LayerId(i));
    if ((planned != nullptr) != (disk.table != nullptr))
      proof_failed("the partition table is not as planned", disk.path);
    if (planned != nullptr)
      check_table(before.disks()[i].table.get(), *disk.table, *planned, plan.touches(i),
                  !disk.table->must_move_spare() || plan.disks[i].cut_later, disk.path);
  }
  check_inner_tables(before, after, plan);
}

}  // namespace jh
