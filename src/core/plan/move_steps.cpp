#include "core/plan/move_steps.h"

#include <fmt/format.h>

#include "core/plan/content.h"

namespace jh {
namespace {

// What has to be copied: of swap and the like, only what it does not have free.
Bytes content_to_copy(const Layer& layer, Bytes size) {
  if (!layer.content.moves_without_free()) return size;
  std::uint64_t free = 0;
  layer.content.on_disk()->for_each_free(
      [&](std::uint64_t start, std::uint64_t end) { free += end - start; });
  return size - std::min(size, Bytes(free));
}

}  // namespace

void plan_move(Plan& plan, const Guest& guest, const PartitionLayout::Member& member) {
  const Layer& layer = *member.layer;
  const TableFacts& facts = guest.disks()[layer.disk].table->facts();
  const Partition& partition = *layer.partition;
  const Sectors count = std::min(member.count, partition.count);
  const Bytes size = to_bytes(count, facts.sector_size);
  const Bytes copied = content_to_copy(layer, size);
  const bool to_front = member.first < partition.first;
  const Sectors way = to_front ? partition.first - member.first : member.first - partition.first;
  plan.steps.push_back(
      {layer.id, guest.name_of(layer),
       fmt::format("move it {} towards the {}, {}", human(to_bytes(way, facts.sector_size)),
                   to_front ? "front" : "end",
                   copied < size ? "without what it has free" : "with all that is in it"),
       step::MovePartition{member.first, member.first + count}, copied.value()});
  plan.notes.push_back(fmt::format("{} gets a new start sector: update anything that refers to it",
                                   guest.name_of(layer)));
  const FilesystemKind* kind = layer.content.filesystem_kind();
  if (kind != nullptr && kind->found_by_position && facts.kind == TableKind::mbr)
    plan.notes.push_back(fmt::format(
        "Windows keeps the first byte of its partition in its boot data when the table is an "
        "MBR: should {} not start any more, take the change back with undo",
        guest.name_of(layer)));
}

void plan_extended(Plan& plan, const Guest& guest, std::size_t disk,
                   const PartitionLayout::Extended& extended) {
  const Partition& outer = *guest.disks()[disk].table->find(extended.outer.number);
  const bool same_begin = extended.outer.first == outer.first;
  plan.steps.push_back(partition_step(
      guest, disk, outer,
      same_begin ? "the extended partition follows, with its list"
                 : "the extended partition moves along, with its list",
      step::MoveExtended{extended.outer.first, extended.outer.end, extended.logical}));
}

}  // namespace jh
