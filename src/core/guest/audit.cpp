#include "core/guest/audit.h"

#include <fmt/format.h>

#include "core/base/shell_word.h"

namespace jh {
namespace {

LayerVerdict audit_place(const Guest& guest, const Layer& layer, AuditScope scope,
                         Findings& findings, Progress& progress) {
  LayerVerdict row{fmt::format("{} on {}", layer.content.name, guest.name_of(layer)), "sound"};
  if (layer.content.kind == ContentKind::physical_volume ||
      layer.content.kind == ContentKind::encrypted) {
    // Reading it was the audit; a group is looked at as a group.
    const LayerHeader& header = layer.content.header();
    if (layer.content.kind == ContentKind::encrypted) {
      row.verdict = header.payload ? "its header is sound" : "not looked into";
      if (!header.payload) row.kind = LayerVerdict::Kind::not_looked_into;
    }
    if (header.defect && header.defect->status() == Status::damaged) {
      findings.add(guest.disks()[layer.disk].path + ", " + guest.name_of(layer),
                   header.defect->what());
      row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
    }
    for (const Error& blocker : layer.content.blockers)
      if (blocker.status() == Status::damaged) {
        findings.add(guest.disks()[layer.disk].path + ", " + guest.name_of(layer), blocker.what());
        row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
      }
    return row;
  }
  if (layer.table) {
    const std::uint64_t before = findings.count();
    layer.table->audit(*layer.window, findings);
    if (findings.count() != before) row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
    return row;
  }
  const bool left_alone = !layer.content.filesystem() && layer.content.blockers.empty();
  if (layer.content.filesystem_kind() == nullptr || !layer.content.filesystem_kind()->audited ||
      left_alone) {
    row.verdict = "not looked into";
    row.kind = LayerVerdict::Kind::not_looked_into;
    return row;
  }
  const std::string where = guest.disks()[layer.disk].path + ", " + guest.name_of(layer);
  const std::uint64_t before = findings.count();
  if (!layer.content.filesystem()) {
    const Error& error = layer.content.blockers.front();
    if (error.status() == Status::unsupported) {
      row.verdict = std::string("not audited: ") + error.what();
      row.kind = LayerVerdict::Kind::sound_but;
      return row;
    }
    findings.add(where, error.what());
  } else {
    Findings own;
    layer.content.on_disk()->audit(scope, {}, own, progress);
    const bool dirty = !layer.content.blockers.empty() || layer.content.replay() != nullptr;
    for (const Finding& finding : own.kept())
      findings.add(where + ", " + finding.where, finding.what);
    if (dirty && own.clean()) {
      row.verdict = "sound, but " + layer.content.state;
      if (layer.content.replay()) row.verdict += " (" + layer.content.replay()->found + ")";
      row.kind = LayerVerdict::Kind::sound_but;
      return row;
    }
  }
  if (const std::uint64_t found = findings.count() - before; found != 0) {
    row.verdict = fmt::format("{} finding{}", found, found == 1 ? "" : "s");
    row.kind = LayerVerdict::Kind::damaged;
  }
  return row;
}

LayerVerdict audit_group(const VolumeGroup& group, Findings& findings) {
  LayerVerdict row{"group " + group.open.group.name, "sound"};
  for (const Error& blocker : group.open.blockers()) {
    if (blocker.status() == Status::damaged) {
      findings.add(row.layer, blocker.what());
      row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
    } else if (row.kind == LayerVerdict::Kind::sound) {
      row = {row.layer, std::string("sound, but ") + blocker.what(), LayerVerdict::Kind::sound_but};
    }
  }
  for (const std::string& note : group.open.notes) {
    findings.add(row.layer, note);
    row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
  }
  return row;
}

}  // namespace

std::vector<LayerVerdict> audit_guest(const Guest& guest, Findings& findings, Progress& progress,
                                      AuditScope scope) {
  std::vector<LayerVerdict> verdicts;
  const auto look = [&](const Layer& layer) {
    if (layer.content.kind != ContentKind::logical_partitions &&
        layer.content.kind != ContentKind::nothing)
      verdicts.push_back(audit_place(guest, layer, scope, findings, progress));
  };
  for (const Disk& disk : guest.disks()) {
    const std::uint64_t before = findings.count();
    disk.container->audit(findings);
    const ContainerFacts facts = disk.container->facts();
    if (facts.format != ImageFormat::raw) {
      LayerVerdict row{fmt::format("{}: {} image", disk.path, format_name(facts.format)), "sound"};
      if (findings.count() != before)
        row = {row.layer, "damaged", LayerVerdict::Kind::damaged};
      else if (!facts.pending_repairs.empty())
        row = {row.layer, "sound, but left open: " + facts.pending_repairs.front(),
               LayerVerdict::Kind::sound_but};
      verdicts.push_back(row);
    }
    const std::uint64_t below = findings.count();
    if (disk.trouble) findings.add(disk.path, disk.trouble->what());
    if (disk.table) disk.table->audit(disk.container->disk(), findings);
    if (disk.table && facts.sector_size != 0 &&
        facts.sector_size != disk.table->facts().sector_size)
      findings.add(disk.path, fmt::format("the partition table counts sectors of {} bytes, and the "
                                          "image says that the disk has sectors of {}",
                                          disk.table->facts().sector_size, facts.sector_size));
    if (disk.table || disk.trouble) {
      const bool sound = findings.count() == below;
      verdicts.push_back({disk.path + ": partition table", sound ? "sound" : "damaged",
                          sound ? LayerVerdict::Kind::sound : LayerVerdict::Kind::damaged});
    }
    for (const Layer& layer : disk.layers) for_each_layer(layer, look);
  }
  for (const VolumeGroup& group : guest.groups()) {
    verdicts.push_back(audit_group(group, findings));
    for (const Layer& layer : group.volumes)
      if (layer.window) for_each_layer(layer, look);
  }
  return verdicts;
}

void check_image_sound(const Disk& disk) {
  if (disk.added) return;
  Findings findings;
  disk.container->audit(findings);
  if (!findings.clean())
    damaged("the image's tables are damaged: " + findings.kept().front().what,
            findings.kept().front().where,
            "let the hypervisor check and repair the image first (all findings: " +
                suggest("audit", {disk.path}) + ")");
}

}  // namespace jh
