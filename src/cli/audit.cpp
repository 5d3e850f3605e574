#include "core/fs/ext/audit.h"

#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/report/report.h"

namespace jh::cli {
namespace {

struct LayerVerdict {
  std::string layer;
  std::string verdict;
  Style style = Style::good;
};

LayerVerdict audit_place(const Guest& guest, const Place& place, Findings& findings,
                         Progress& progress) {
  LayerVerdict row{fmt::format("{} on {}", place.content.name, guest.name_of(place)), "sound"};
  if (place.content.kind == ContentKind::swap ||
      place.content.kind == ContentKind::physical_volume) {
    // Reading it was the audit; a physical volume's group is looked at with its group.
    for (const Error& blocker : place.content.blockers)
      if (blocker.status() == Status::damaged) {
        findings.add(guest.disks()[place.disk].path + ", " + guest.name_of(place), blocker.what());
        row = {row.layer, "damaged", Style::bad};
      }
    return row;
  }
  if (place.content.kind != ContentKind::ext) {
    row.verdict = "not looked into";
    row.style = Style::dim;
    return row;
  }
  const std::string where = guest.disks()[place.disk].path + ", " + guest.name_of(place);
  const std::uint64_t before = findings.count();
  if (!place.content.ext) {
    const Error& error = place.content.blockers.front();
    if (error.status() == Status::unsupported) {
      row.verdict = std::string("not audited: ") + error.what();
      row.style = Style::warn;
      return row;
    }
    findings.add(where, error.what());
  } else {
    Findings own;
    ext::audit(*place.content.ext, {}, own, progress);
    const bool dirty = !place.content.blockers.empty() || place.content.rest.has_value();
    for (const Finding& finding : own.kept())
      findings.add(where + ", " + finding.where, finding.what);
    if (dirty && own.clean()) {
      row.verdict = "sound, but " + place.content.state;
      if (place.content.rest) row.verdict += " (" + place.content.rest->text() + ")";
      row.style = Style::warn;
      return row;
    }
  }
  if (const std::uint64_t found = findings.count() - before; found != 0) {
    row.verdict = fmt::format("{} finding{}", found, found == 1 ? "" : "s");
    row.style = Style::bad;
  }
  return row;
}

LayerVerdict audit_group(const VolumeGroup& group, Findings& findings) {
  LayerVerdict row{"group " + group.open.group.name, "sound"};
  for (const Error& blocker : group.open.blockers()) {
    if (blocker.status() == Status::damaged) {
      findings.add(row.layer, blocker.what());
      row = {row.layer, "damaged", Style::bad};
    } else if (row.style == Style::good) {
      row = {row.layer, std::string("sound, but ") + blocker.what(), Style::warn};
    }
  }
  for (const std::string& note : group.open.notes) {
    findings.add(row.layer, note);
    row = {row.layer, "damaged", Style::bad};
  }
  return row;
}

}  // namespace

int run_audit(const Arguments& arguments) {
  const CommandLine line{
      "audit", "IMAGE...",
      "Checks the consistency of every layer, from disk. Changes nothing. Exit status 0: sound,\n"
      "4: damage was found.",
      "  juneheath audit heath.img\n", boost::program_options::options_description("Audit")};
  const Parsed parsed = parse(line, arguments);
  if (parsed.help_shown) return 0;
  const Session session = open_session(parsed.images, parsed.common.sector_size);
  const Guest& guest = *session.guest;
  ProgressLine progress(parsed.common.quiet || parsed.common.json);
  Findings findings;
  std::vector<LayerVerdict> verdicts;
  for (const Disk& disk : guest.disks()) {
    const std::uint64_t before = findings.count();
    disk.container->audit(findings);
    const ContainerFacts facts = disk.container->facts();
    if (facts.form != Form::raw) {
      LayerVerdict row{fmt::format("{}: {} image", disk.path, form_name(facts.form)), "sound"};
      if (findings.count() != before)
        row = {row.layer, "damaged", Style::bad};
      else if (!facts.unsettled.empty())
        row = {row.layer, "sound, but left open: " + facts.unsettled.front(), Style::warn};
      verdicts.push_back(row);
    }
    const std::uint64_t below = findings.count();
    if (disk.trouble) findings.add(disk.path, disk.trouble->what());
    if (disk.table) disk.table->audit(disk.container->disk(), findings);
    if (disk.table || disk.trouble) {
      const bool sound = findings.count() == below;
      verdicts.push_back({disk.path + ": partition table", sound ? "sound" : "damaged",
                          sound ? Style::good : Style::bad});
    }
    for (const Place& place : disk.places)
      if (place.content.kind != ContentKind::extended && place.content.kind != ContentKind::nothing)
        verdicts.push_back(audit_place(guest, place, findings, progress));
  }
  for (const VolumeGroup& group : guest.groups()) {
    verdicts.push_back(audit_group(group, findings));
    for (const Place& place : group.volumes)
      if (place.window) verdicts.push_back(audit_place(guest, place, findings, progress));
  }
  const int status = static_cast<int>(findings.clean() ? Status::done : Status::damaged);
  if (parsed.common.json) {
    print_json("audit", findings_json(findings));
    return status;
  }
  std::vector<Row> rows;
  for (const LayerVerdict& verdict : verdicts)
    rows.push_back({{verdict.layer}, {verdict.verdict, verdict.style}});
  if (!parsed.common.quiet) print_table(rows);
  for (const Finding& finding : findings.kept())
    std::cout << "  " << styled(finding.where, Style::dim) << ": " << finding.what << "\n";
  if (findings.count() > findings.kept().size())
    std::cout << fmt::format("  ... and {} more\n", findings.count() - findings.kept().size());
  std::cout << (findings.clean()
                    ? styled("No damage found.", Style::good)
                    : styled(fmt::format("Damage found: {} finding{}.", findings.count(),
                                         findings.count() == 1 ? "" : "s"),
                             Style::bad))
            << "\n";
  return status;
}

}  // namespace jh::cli
