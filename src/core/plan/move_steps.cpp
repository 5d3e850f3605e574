#include "core/plan/move_steps.h"

#include <fmt/format.h>

#include "core/plan/content.h"

namespace jh {
namespace {

// What has to be copied: of swap and the like, only what it does not have free.
Bytes content_to_copy(const Place& place, Bytes size) {
  if (!place.content.moves_without_free()) return size;
  std::uint64_t free = 0;
  place.content.filesystem->for_each_free(
      [&](std::uint64_t start, std::uint64_t end) { free += end - start; });
  return size - std::min(size, Bytes(free));
}

}  // namespace

void plan_move(Plan& plan, const Guest& guest, const PartitionLayout::Member& member) {
  const Place& place = *member.place;
  const TableFacts& facts = guest.disks()[place.disk].table->facts();
  const Partition& partition = *place.partition;
  const Sectors count = std::min(member.count, partition.count);
  const Bytes size = to_bytes(count, facts.sector_size);
  const Bytes copied = content_to_copy(place, size);
  const bool to_front = member.first < partition.first;
  const Sectors way = to_front ? partition.first - member.first : member.first - partition.first;
  plan.steps.push_back(
      {where_is(guest, place), guest.name_of(place),
       fmt::format("move it {} towards the {}, {}", human(to_bytes(way, facts.sector_size)),
                   to_front ? "front" : "end",
                   copied < size ? "without what it has free" : "with all that is in it"),
       size, size, step::MovePartition{member.first, member.first + count}, copied.value()});
  plan.notes.push_back(fmt::format("{} gets a new start sector: update anything that refers to it",
                                   guest.name_of(place)));
  const FilesystemKind* kind = place.content.filesystem_kind;
  if (kind != nullptr && kind->found_by_position && facts.kind == TableKind::mbr)
    plan.notes.push_back(fmt::format(
        "Windows keeps the first byte of its partition in its boot data when the table is an "
        "MBR: should {} not start any more, take the change back with undo",
        guest.name_of(place)));
}

void plan_extended(Plan& plan, const Guest& guest, std::size_t disk,
                   const PartitionLayout::Extended& extended) {
  const Partition& outer = *guest.disks()[disk].table->find(extended.outer.number);
  const bool same_begin = extended.outer.first == outer.first;
  plan.steps.push_back(partition_step(
      guest, disk, outer,
      same_begin ? "the extended partition follows, with its list"
                 : "the extended partition moves along, with its list",
      extended.outer.end - extended.outer.first,
      step::MoveExtended{extended.outer.first, extended.outer.end, extended.logical}));
}

}  // namespace jh
