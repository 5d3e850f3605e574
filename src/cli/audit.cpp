#include "core/guest/audit.h"

#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_files.h"
#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/carry/checks.h"
#include "core/report/report.h"

namespace jh::cli {
namespace {

Style style_of(LayerVerdict::Kind kind) {
  switch (kind) {
    case LayerVerdict::Kind::sound:
      return Style::good;
    case LayerVerdict::Kind::sound_but:
      return Style::warn;
    case LayerVerdict::Kind::damaged:
      return Style::bad;
    case LayerVerdict::Kind::not_looked_into:
      break;
  }
  return Style::dim;
}

}  // namespace

CommandLine audit_line() {
  boost::program_options::options_description own("Audit");
  own.add_options()(
      "proof",
      boost::program_options::value<std::string>()->default_value("usual")->value_name("HOW"),
      "usual, or full: verify content by its checksums");
  return {
      "audit",
      "IMAGE...",
      "read only: is every layer sound?",
      "Checks the consistency of every layer, from disk. Changes nothing. Exit status 0: sound,\n"
      "4: damage was found.",
      "  juneheath audit heath.img\n",
      own};
}

namespace {

// `named`: since before the images were opened.
int audit_unlocked(CommandRun& run, const Parsed& parsed, const SourceWatch& named) {
  const Session session = open_session(parsed, parsed.images);
  const Guest& guest = *session.guest;
  std::vector<std::string> parts;
  for (const Disk& disk : guest.disks())
    for (const std::string& file : files_of(disk)) parts.push_back(file);
  const SourceWatch further(parts);
  run.record_before(guest);
  const auto progress = progress_of(run);
  Findings findings;
  const AuditScope scope =
      proof_from(parsed) == ProofEffort::full ? AuditScope::content : AuditScope::full;
  const std::vector<LayerVerdict> verdicts = audit_guest(guest, findings, *progress, scope);
  if (!findings.clean()) {
    named.check_still();
    further.check_still();
  }
  const int status = static_cast<int>(findings.clean() ? Status::done : Status::damaged);
  run.record.verdicts = verdicts;
  run.record.findings = findings.kept();
  run.record.document = findings_json(findings);
  if (run.json()) return status;
  std::vector<Row> rows;
  for (const LayerVerdict& verdict : verdicts)
    rows.push_back({{verdict.layer}, {verdict.verdict, style_of(verdict.kind)}});
  if (!parsed.common.quiet) print_table(rows);
  for (const Finding& finding : findings.kept())
    std::cout << "  " << styled(finding.where, Style::dim) << ": " << printable(finding.what)
              << "\n";
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

}  // namespace

int run_audit(CommandRun& run, const Parsed& parsed) {
  const SourceWatch watch(parsed.images);
  return look_unlocked(watch, [&] { return audit_unlocked(run, parsed, watch); });
}

}  // namespace jh::cli
