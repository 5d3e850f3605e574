#include "core/plan/shrink_around.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/plan/content.h"

namespace jh {

void ShrinkAround::shorten(const Place& place, Sectors end, std::optional<Bytes> disk_size) {
  const Disk& on = guest_.disks()[place.disk];
  const auto add = [&](const Partition& partition, const char* action) {
    plan_.steps.push_back(
        partition_step(guest_, StepKind::shrink_partition, place.disk, partition, action, end));
    cost_.held += 65536;
  };
  if (end >= place.partition->end()) return;
  add(*place.partition, "move its end inwards");
  if (place.partition->role != PartitionRole::logical || !disk_size) return;
  // The extended one goes along when it would reach past the disk's new end.
  for (const Partition& outer : on.table->facts().partitions)
    if (outer.role == PartitionRole::extended && outer.end() > on.table->usable_end_on(*disk_size))
      add(outer, "the extended partition follows");
}

void ShrinkAround::move(const Lineup::Lying& lying) {
  const Place& place = *lying.place;
  const PartitionTable& table = *guest_.disks()[place.disk].table;
  const Sectors first = lying.first;
  const Sectors end = lying.end();
  const std::uint32_t sector = table.facts().sector_size;
  const Bytes size = to_bytes(end - first, sector);
  Step step{StepKind::move_partition,
            place.disk,
            guest_.name_of(place),
            fmt::format("move it {} towards the front, with all that is in it",
                        human(to_bytes(place.partition->first - first, sector))),
            size,
            size,
            place.partition->number,
            end};
  step.new_first = first;
  step.to_move = size.value();
  plan_.steps.push_back(std::move(step));
  // Held once more: what stood in its new place.
  cost_.direct += size.value();
  plan_.notes.push_back(fmt::format(
      "{} begins elsewhere afterwards: whatever names it by its first sector must be told",
      guest_.name_of(place)));
  if (place.content.filesystem_kind != nullptr &&
      place.content.filesystem_kind->found_by_position && table.facts().kind == TableKind::mbr)
    plan_.notes.push_back(fmt::format(
        "Windows keeps the first byte of its partition in its boot data when the table is an "
        "MBR: should {} not start any more, take the change back with undo",
        guest_.name_of(place)));
}

void ShrinkAround::move_chain(std::size_t index, const Lineup::Chain& chain) {
  PartitionTable& table = *guest_.disks()[index].table;
  const std::uint32_t sector = table.facts().sector_size;
  const Partition& outer = *table.find(chain.extended.number);
  const bool same_begin = chain.extended.first == outer.first;
  Step step = partition_step(guest_, StepKind::move_chain, index, outer,
                             same_begin ? "the extended partition follows, with its list"
                                        : "the extended partition moves along, with its list",
                             outer.end());
  step.new_end = chain.extended.end;
  step.to = to_bytes(chain.extended.end - chain.extended.first, sector);
  step.new_first = chain.extended.first;
  step.logical = chain.logical;
  plan_.steps.push_back(std::move(step));
  cost_.held += 65536 * (chain.logical.size() + 1);
}

void ShrinkAround::finish_disk(std::size_t index) {
  const Disk& each = guest_.disks()[index];
  const Bytes size = plan_.disks[index].to;
  const bool cut = size < each.size();
  if (!cut && !plan_.touches(index)) return;
  Plan outer;
  plan_container(outer, guest_, request_, index, size);
  plan_.steps.insert(plan_.steps.begin(), outer.steps.begin(), outer.steps.end());
  cost_.held += outer.bytes_to_write;
  if (each.table) {
    Plan table;
    plan_table(table, guest_, index, size, true);
    for (Step& step : table.steps) {
      const auto at = step.kind == StepKind::repair_table ? plan_.steps.begin() : plan_.steps.end();
      plan_.steps.insert(at, std::move(step));
    }
    cost_.held += table.bytes_to_write;
    if (cut && each.table->facts().kind == TableKind::gpt) move_spare(index, size);
  }
  if (!cut) return;
  const ContainerFacts facts = each.container->facts();
  plan_.steps.push_back(
      {StepKind::shrink_container, index, disk_name(guest_, index),
       facts.form == Form::raw
           ? "cut the image"
           : fmt::format("let go what the {} image keeps behind the end", form_name(facts.form)),
       each.size(), size});
  if (request_.keep_undo && facts.form == Form::raw) keep_cut(index, size);
  plan_.disks[index].let_go = each.container->parts_let_go(size);
  for (const std::string& path : plan_.disks[index].let_go)
    plan_.notes.push_back(
        fmt::format("{} is not part of the disk any more: {}", path,
                    request_.keep_undo ? "it stays, empty, for the undo" : "it is removed"));
}

void ShrinkAround::move_spare(std::size_t index, Bytes size) {
  const Disk& each = guest_.disks()[index];
  const bool there = std::any_of(plan_.steps.begin(), plan_.steps.end(), [&](const Step& step) {
    return step.kind == StepKind::move_spare && step.disk == index;
  });
  if (there) return;
  const TableFacts& facts = each.table->facts();
  plan_.steps.push_back({StepKind::move_spare, index, kind_name(facts.kind),
                         "move the spare copy to the disk's new end",
                         to_bytes(facts.known_end, facts.sector_size),
                         to_bytes(each.table->usable_end_on(size), facts.sector_size)});
}

// What is cut off goes to the ledger, for the undo, unless it is elsewhere in the image by then.
void ShrinkAround::keep_cut(std::size_t index, Bytes size) {
  Store& store = guest_.disks()[index].container->disk();
  std::uint64_t kept = 0;
  for (std::uint64_t at = size.value(); at < store.size();) {
    const Run run = store.map(at, store.size() - at);
    if (!run.zero) kept += run.length;
    at += run.length;
  }
  std::uint64_t moved = 0;
  for (const Step& step : plan_.steps)
    if (step.disk == index) moved += step.to_move;
  kept -= std::min(kept, moved);
  cost_.direct += kept / 2;
  if (kept >= (1U << 20))
    plan_.notes.push_back(fmt::format(
        "about {} are cut off that move nowhere; for an undo they are kept beside the image "
        "(--no-undo spares them)",
        human(Bytes(kept))));
}

}  // namespace jh
