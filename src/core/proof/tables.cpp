#include "core/proof/tables.h"

#include <fmt/format.h>

#include "core/proof/verdict.h"

namespace jh {
namespace {

// Where a partition is to begin and to end, by the steps on it, one after the other.
NewPlace planned_place(const Plan& plan, std::size_t disk, const Partition& old) {
  NewPlace layer{old.number, old.first, old.end()};
  for (const Step& step : plan.steps) {
    if (step.layer.disk != disk) continue;
    // The extended partition takes in what is made in it.
    const auto* created = step.as<step::CreatePartition>();
    if (created != nullptr && created->partition.role == PartitionRole::logical &&
        old.role == PartitionRole::extended)
      layer.end = std::max(layer.end, created->partition.end);
    if (step.layer.number() != old.number) continue;
    if (const auto* moves = step.as<step::MovePartition>())
      layer = {old.number, moves->first, moves->end};
    if (const auto* moves = step.as<step::MoveExtended>())
      layer = {old.number, moves->first, moves->end};
    if (const auto* shrinks = step.as<step::ShrinkPartition>()) layer.end = shrinks->end;
    if (const auto* grows = step.as<step::GrowPartition>())
      layer.end = std::max(layer.end, grows->end);
  }
  return layer;
}

void check_partition(const Partition& old, const Partition* now, const NewPlace& planned,
                     const std::string& where) {
  if (now == nullptr || now->first != planned.first || now->end() != planned.end ||
      now->type_code != old.type_code || now->part_uuid != old.part_uuid ||
      now->label != old.label || now->role != old.role)
    proof_failed(fmt::format("partition {} is not as planned", old.number), where);
}

// Returns how many there are.
std::size_t check_created(const Plan& plan, std::size_t disk, const PartitionTable& table,
                          const std::string& where) {
  std::size_t created = 0;
  plan.for_each<step::CreatePartition>([&](const Step& step, const step::CreatePartition& work) {
    if (step.layer.disk != disk) return;
    ++created;
    const Partition* fresh = table.find(step.layer.number());
    const NewPartition& planned = work.partition;
    if (fresh == nullptr || fresh->first != planned.first || fresh->end() != planned.end ||
        fresh->role != planned.role || fresh->purpose != PartitionPurpose::lvm)
      proof_failed(fmt::format("the new partition {} is not as planned", step.layer.number()),
                   where);
  });
  return created;
}

void check_table(const Disk& old_disk, const Disk& new_disk, const Plan& plan, std::size_t index) {
  const std::string& where = new_disk.path;
  if ((old_disk.table == nullptr) != (new_disk.table == nullptr))
    proof_failed("the partition table is gone", where);
  if (!new_disk.table) return;
  const TableFacts& facts = new_disk.table->facts();
  if (!facts.blockers.empty()) proof_failed(facts.blockers.front().what(), where);
  const bool spare_is_right = !new_disk.table->must_move_spare() || plan.disks[index].cut_later;
  if (plan.touches(index) && (!facts.repairs.empty() || !spare_is_right))
    proof_failed("the partition table is not in order", where);
  const auto& old = old_disk.table->facts().partitions;
  if (facts.partitions.size() != old.size() + check_created(plan, index, *new_disk.table, where))
    proof_failed("the number of partitions differs", where);
  for (const Partition& partition : old)
    check_partition(partition, new_disk.table->find(partition.number),
                    planned_place(plan, index, partition), where);
}

}  // namespace

void check_tables(const Guest& before, const Guest& after, const Plan& plan) {
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& disk = after.disks()[i];
    const DiskChange& change = plan.disks[i];
    if (disk.size() != (change.cut_later ? change.from : change.to))
      proof_failed(fmt::format("the disk has {} bytes", disk.size().value()), disk.path);
    if (disk.trouble) proof_failed(disk.trouble->what(), disk.path);
    if (!plan.makes_table(i))
      check_table(before.disks()[i], disk, plan, i);
    else if (!disk.table || disk.table->facts().partitions.size() != 1)
      proof_failed("the new disk has no table with one partition", disk.path);
  }
}

}  // namespace jh
