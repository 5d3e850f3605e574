#include "core/plan/content.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

namespace jh {
namespace {

void plan_filesystem(Plan& plan, const LayerId& where, const Layer& layer, const std::string& name,
                     Bytes wanted) {
  const ResizePlan growth = layer.content.filesystem()->plan_resize(wanted);
  for (const std::string& note : growth.notes) plan.notes.push_back(name + ": " + note);
  if (!growth.changes()) return;
  if (const auto& replay = layer.content.replay()) {
    plan.steps.push_back({where, name, replay->action, step::ReplayJournal{}});
    plan.bytes_to_write += replay->bytes_to_write;
  }
  if (!growth.preparation.empty())
    plan.steps.push_back({where, name, growth.preparation, step::PrepareContent{growth.to}});
  plan.steps.push_back({where, name, growth.words, step::GrowContent{growth.to}});
  plan.bytes_to_write += growth.bytes_to_write;
}

}  // namespace

Bytes content_size(const Layer& layer) {
  // What keeps its size takes all of its place, wherever it ends.
  const bool keeps_it =
      layer.content.kind == ContentKind::filesystem && !can_be_resized(layer.content);
  return keeps_it ? layer.size : layer.content.size.value_or(layer.size);
}

Sectors aligned_reach(const PartitionTable& table, const Partition& partition, Bytes disk_size) {
  const Sectors end = table.reach(partition, table.usable_end_on(disk_size));
  // A partition whose end was aligned stays so, as long as it gains anything.
  const bool aligned = table.is_aligned(partition.end()) && end > partition.end();
  return aligned ? table.align_down(end) : end;
}

void plan_content(Plan& plan, const Guest& guest, const Layer& layer, Bytes wanted) {
  const LayerId where = layer.id;
  const std::string name = fmt::format("{} on {}", layer.content.name, guest.name_of(layer));
  if (can_be_resized(layer.content)) {
    if (wanted > content_size(layer)) plan_filesystem(plan, where, layer, name, wanted);
    return;
  }
  if (layer.content.kind == ContentKind::nothing) return;
  if (!layer.content.header().remains.empty()) {
    plan.remains.push_back(fmt::format("{} is {}: {}", guest.name_of(layer), layer.content.name,
                                       layer.content.header().remains));
    return;
  }
  plan.remains.push_back(
      fmt::format("{} is {}, which is left as it is: make it larger from inside the guest",
                  guest.name_of(layer), layer.content.name));
}

namespace {

bool lie_together(const std::string& image, const std::string& part) {
  std::error_code error;
  const auto folder = [&](const std::string& path) {
    return std::filesystem::weakly_canonical(path, error).parent_path();
  };
  return folder(image) == folder(part) && !error;
}

}  // namespace

void check_table(const Disk& disk) {
  if (disk.trouble) throw *disk.trouble;
  if (disk.table && !disk.table->facts().blockers.empty())
    throw disk.table->facts().blockers.front();
}

void check_parts(const Disk& disk, const ContainerFacts& facts) {
  // A descriptor could name any file of the host; only those beside it are ours to change.
  for (const std::string& part : facts.parts)
    if (!lie_together(disk.path, part))
      refuse("a part of the disk lies outside of the image's folder", part,
             "move it beside the image, or make a new image with --into");
}

std::string disk_name(const Guest& guest, std::size_t disk) {
  return guest.disks().size() == 1 ? "disk" : fmt::format("{}:disk", disk + 1);
}

std::string partition_name(const Guest& guest, std::size_t disk, std::uint32_t number) {
  return guest.disks().size() == 1 ? fmt::format("p{}", number)
                                   : fmt::format("{}:p{}", disk + 1, number);
}

Step partition_step(const Guest& guest, std::size_t disk, const Partition& partition,
                    std::string action, Step::Work work) {
  return {LayerId(disk, {}, {partition.number}), partition_name(guest, disk, partition.number),
          std::move(action), std::move(work)};
}

void plan_container(Plan& plan, const Guest& guest, const ChangeOptions& request, std::size_t index,
                    Bytes new_size) {
  const Disk& disk = guest.disks()[index];
  const ContainerFacts facts = disk.container->facts();
  if (!request.into_copy) {
    if (!facts.blockers.empty()) throw facts.blockers.front();
    check_parts(disk, facts);
  }
  if (!facts.snapshots.empty() && !request.into_copy && new_size != disk.size())
    plan.notes.push_back(fmt::format(
        "{} inside of {} stay as they are, each with the size that the disk had then; where the "
        "hypervisor keeps the disk's size elsewhere, change it there",
        counted(facts.snapshots.size(), "snapshot"), disk.path));
  const std::string name = disk_name(guest, index);
  for (const std::string& what : facts.pending_repairs)
    plan.steps.push_back({LayerId(index), name, what, step::RecoverContainer{}});
  if (facts.format != ImageFormat::raw) plan.bytes_to_write += (4U << 20) + facts.blocks * 16;
  // What is found by its distance from the disk's end would be lost in the middle of it.
  if (!disk.table && new_size != disk.size() && !disk.layers.empty() &&
      disk.layers.front().content.kind == ContentKind::array_member)
    throw disk.layers.front().content.blockers.front().with_context(disk.path);
  if (new_size < disk.size() && !disk.container->disk().has_fixed_size())
    disk.container->check_shrink(new_size);
  if (new_size > disk.size())
    plan.steps.push_back(
        {LayerId(index), name,
         facts.format == ImageFormat::raw
             ? "make the image longer"
             : fmt::format("raise the virtual size in the {} header", format_name(facts.format)),
         step::GrowContainer{new_size}});
}

void plan_table(Plan& plan, const Guest& guest, std::size_t index, Bytes new_size, bool repairs) {
  const Disk& disk = guest.disks()[index];
  if (!disk.table) return;
  const TableFacts& facts = disk.table->facts();
  const std::string name = kind_name(facts.kind);
  const Bytes present = disk.size();
  if (repairs)
    for (const std::string& repair : facts.repairs)
      plan.steps.push_back({LayerId(index), name, "repair: " + repair, step::RepairTable{}});
  if (facts.kind == TableKind::gpt && (disk.table->must_move_spare() || new_size > present)) {
    plan.steps.push_back({LayerId(index), name, "move the backup copy to the disk's end",
                          step::MoveSpare{disk.table->usable_end_on(new_size)}});
  }
  plan.bytes_to_write += 256 * 1024;
  if (facts.kind == TableKind::mbr && new_size > to_bytes(Sectors(1ULL << 32), facts.sector_size))
    plan.notes.push_back(
        fmt::format("an MBR reaches {} only; what lies behind cannot be used by a partition",
                    human(to_bytes(Sectors(1ULL << 32), facts.sector_size))));
}

void plan_partition_end(Plan& plan, const Guest& guest, const Layer& layer, Sectors new_end,
                        bool in_place) {
  const auto add = [&](const Partition& partition, const char* action) {
    plan.steps.push_back(
        partition_step(guest, layer.disk, partition, action, step::GrowPartition{new_end}));
  };
  const Disk& disk = guest.disks()[layer.disk];
  const Partition* outer = disk.table->extended_to_grow(*layer.partition, new_end);
  if (outer != nullptr && in_place) add(*outer, "the extended partition grows along");
  add(*layer.partition, "move its end outwards");
}

Bytes resolve_size(Plan& plan, const GrowRequest& request, const Disk& disk) {
  const Bytes present = disk.size();
  Bytes size = present;
  if (request.to) size = *request.to;
  if (request.by) size = present + *request.by;
  if (request.to && size < present)
    refuse(
        fmt::format("the disk already has {}; {} would be less", spelled_out(present), human(size)),
        disk.path,
        "to see how small it can become, or to add that much:\n  " +
            suggest("survey", {disk.path}) + "\n  " +
            suggest("grow", {disk.path}).with("by", paste_size(size)));
  if (size == present) return present;
  std::uint64_t unit = disk.container->size_unit().value();
  if (disk.table) unit = std::max<std::uint64_t>(unit, disk.table->facts().sector_size);
  const Bytes rounded(round_up(size.value(), unit));
  if (rounded != size)
    plan.notes.push_back(
        fmt::format("a disk has whole sectors: {} bytes are added to the size "
                    "you asked for",
                    (rounded - size).value()));
  disk.container->check_growth(rounded);
  return rounded;
}

void note_full_filesystems(Plan& plan, const Guest& guest) {
  plan.for_each<step::ShrinkContent>([&](const Step& step, const step::ShrinkContent& work) {
    const Layer& layer = *guest.find(step.layer);
    if (!layer.content.used || layer.content.moves_without_free()) return;
    const Bytes used = std::min(*layer.content.used, work.size);
    if ((work.size - used).value() >= work.size.value() / 20) return;
    // What it uses now has tables in it that go: there may well be more.
    const std::uint64_t mib = 1U << 20;
    const Bytes more(std::max(round_up(work.size.value() / 8, mib), mib));
    plan.notes.push_back(
        fmt::format("{} may be left with less than 5% free: a guest that writes could find it full "
                    "(to leave more: --to floor+{}, for example)",
                    guest.best_name(layer), paste_size(more)));
  });
}

}  // namespace jh
