#include "core/plan/overview.h"

#include "core/plan/floors.h"

namespace jh {
namespace {

void add_content(const Layer& layer, ImageOverview& out) {
  if (layer.content.kind != ContentKind::filesystem || !layer.content.used || !layer.content.size)
    return;
  out.used = out.used.value_or(0) + layer.content.used->value();
  out.inside_free +=
      (*layer.content.size - std::min(*layer.content.size, *layer.content.used)).value();
}

void note_blockers(const std::vector<Error>& blockers, ImageOverview& out) {
  for (const Error& blocker : blockers)
    if (++out.blockers == 1) out.state = blocker.what();
}

}  // namespace

ImageOverview overview_of(const Guest& guest) {
  const Disk& disk = guest.disks().front();
  const ContainerFacts facts = disk.container->facts();
  ImageOverview out;
  out.image = disk.path;
  out.hostname = guest.hostname();
  out.format = format_name(facts.format);
  out.disk = facts.disk_size.value();
  out.length = facts.file_length.value();
  note_blockers(facts.blockers, out);
  note_blockers(guest.asleep(), out);
  if (disk.trouble) note_blockers({*disk.trouble}, out);
  if (disk.table) {
    note_blockers(disk.table->facts().blockers, out);
    const std::uint64_t sector = disk.table->facts().sector_size;
    for (const Gap& gap : disk.table->gaps()) out.room += gap.count.value() * sector;
  }
  for (const Layer& layer : disk.layers) {
    add_content(layer, out);
    note_blockers(layer.content.blockers, out);
  }
  for (const VolumeGroup& group : guest.groups()) {
    out.room += group.bytes(group.open.group.free_extents()).value();
    note_blockers(group.open.blockers(), out);
    for (const Layer& layer : group.volumes) {
      add_content(layer, out);
      note_blockers(layer.content.blockers, out);
    }
  }
  Floors floors(guest);
  out.floor = floors.of_disk(0).size.value();
  if (out.blockers == 0) out.state = "nothing in the way";
  return out;
}

}  // namespace jh
