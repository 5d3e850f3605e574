#include "core/plan/shrink_around.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/plan/content.h"
#include "core/plan/move_steps.h"

namespace jh {

void check_can_be_compared(const Guest& guest, const Layer& layer) {
  std::size_t pv = 0;
  const VolumeGroup* group = guest.group_on(layer, pv);
  if (group == nullptr) return;
  for (const Layer& volume : group->volumes)
    if (!volume.window)
      unsupported(guest.name_of(layer) + " would have to shrink and to move, and " +
                      guest.name_of(volume) + " cannot be compared afterwards",
                  guest.disks()[layer.disk].path, "shrink without --allow-move");
}

void ShrinkAround::shorten(const Layer& layer, Sectors end, std::optional<Bytes> disk_size) {
  const Disk& on = guest_.disks()[layer.disk];
  const auto add = [&](const Partition& partition, const char* action) {
    plan_.steps.push_back(
        partition_step(guest_, layer.disk, partition, action, step::ShrinkPartition{end}));
    cost_.through_ledger += 65536;
  };
  if (end >= layer.partition->end()) return;
  add(*layer.partition, "move its end inwards");
  if (layer.partition->role != PartitionRole::logical || !disk_size) return;
  // The extended one goes along when it would reach past the disk's new end.
  for (const Partition& outer : on.table->facts().partitions)
    if (outer.role == PartitionRole::extended && outer.end() > on.table->usable_end_on(*disk_size))
      add(outer, "the extended partition follows");
}

void ShrinkAround::move(const PartitionLayout::Member& member) {
  plan_move(plan_, guest_, member);
  // Held once more: what stood in its new place.
  cost_.direct += to_bytes(std::min(member.count, member.layer->partition->count),
                           guest_.disks()[member.layer->disk].table->facts().sector_size)
                      .value();
}

void ShrinkAround::move_extended(std::size_t index, const PartitionLayout::Extended& extended) {
  plan_extended(plan_, guest_, index, extended);
  cost_.through_ledger += 65536 * (extended.logical.size() + 1);
}

void ShrinkAround::finish_disk(std::size_t index) {
  const Disk& each = guest_.disks()[index];
  const Bytes size = plan_.disks[index].to;
  const bool cut = size < each.size();
  if (!cut && !plan_.touches(index)) return;
  Plan outer;
  plan_container(outer, guest_, request_, index, size);
  plan_.steps.insert(plan_.steps.begin(), outer.steps.begin(), outer.steps.end());
  cost_.through_ledger += outer.bytes_to_write;
  if (each.table) {
    Plan table;
    plan_table(table, guest_, index, size, true);
    for (Step& step : table.steps) {
      const auto at = step.is<step::RepairTable>() ? plan_.steps.begin() : plan_.steps.end();
      plan_.steps.insert(at, std::move(step));
    }
    cost_.through_ledger += table.bytes_to_write;
    if (cut && each.table->facts().kind == TableKind::gpt) move_spare(index, size);
  }
  if (!cut) return;
  if (each.container->disk().has_fixed_size()) {
    plan_.disks[index].cut_later = true;
    plan_.remains.push_back(
        fmt::format("make the device smaller where it is made: {} keeps its size until then; {} "
                    "are enough, and nothing behind that is used any more",
                    each.path, spelled_out(size)));
    return;
  }
  const ContainerFacts facts = each.container->facts();
  plan_.steps.push_back({LayerId(index), disk_name(guest_, index),
                         facts.format == ImageFormat::raw
                             ? "cut the image"
                             : fmt::format("release what the {} image keeps behind the new end",
                                           format_name(facts.format)),
                         step::ShrinkContainer{size}});
  if (request_.keep_undo && facts.format == ImageFormat::raw) keep_cut(index, size);
  plan_.disks[index].let_go = each.container->parts_let_go(size);
  for (const std::string& path : plan_.disks[index].let_go)
    plan_.notes.push_back(
        fmt::format("{} is not part of the disk any more: {}", path,
                    request_.keep_undo ? "it stays, empty, for the undo" : "it is removed"));
}

void ShrinkAround::move_spare(std::size_t index, Bytes size) {
  const Disk& each = guest_.disks()[index];
  if (plan_.has<step::MoveSpare>(LayerId(index))) return;
  const TableFacts& facts = each.table->facts();
  plan_.steps.push_back({LayerId(index), kind_name(facts.kind),
                         "move the backup copy to the disk's new end",
                         step::MoveSpare{each.table->usable_end_on(size)}});
}

// What is cut off goes to the ledger, for the undo, unless it is elsewhere in the image by then.
void ShrinkAround::keep_cut(std::size_t index, Bytes size) {
  Store& store = guest_.disks()[index].container->disk();
  std::uint64_t kept = 0;
  for (std::uint64_t at = size.value(); at < store.size();) {
    const Range run = store.map(at, store.size() - at);
    if (!run.zero) kept += run.length;
    at += run.length;
  }
  std::uint64_t moved = 0;
  for (const Step& step : plan_.steps)
    if (step.layer.disk == index) moved += step.to_move;
  kept -= std::min(kept, moved);
  cost_.direct += kept / 2;
  if (kept >= (1U << 20))
    plan_.notes.push_back(fmt::format(
        "about {} are cut off that move nowhere; for an undo they are kept beside the image "
        "(--no-undo spares them)",
        human(Bytes(kept))));
}

}  // namespace jh
