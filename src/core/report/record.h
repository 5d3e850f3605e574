// Record: one command and what came of it, as far as it got; everything a report shows.
#pragma once

#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/base/evidence.h"
#include "core/figure/occupancy.h"
#include "core/figure/view.h"
#include "core/guest/audit.h"
#include "core/plan/plan.h"
#include "core/report/report.h"
#include "core/store/transfer.h"

namespace jh {

struct RunRecord {
  std::string command;             // "grow"
  std::vector<std::string> words;  // all of the command line, the program's name first
  std::string version;
  std::string folder;        // that relative names start from
  std::int64_t started = 0;  // seconds since 1970
  double seconds = 0;        // it took
  int status = 0;            // its exit status
  bool dry_run = false;
  bool changed = false;  // the change was carried out
  std::optional<Error> error;

  std::vector<std::string> images;
  std::optional<Plan> plan;
  std::optional<GuestView> before;
  std::optional<GuestView> after;      // or as the plan would have it
  std::vector<LayerSize> sizes;        // as it was found
  std::vector<LayerChange> layers;     // before → after, when something was done
  std::vector<LayerVerdict> verdicts;  // of an audit
  std::vector<Finding> findings;
  std::vector<Evidence> evidence;  // what the proof has looked at
  std::vector<Evidence> figures;   // what it took: bytes written, ledger
  std::vector<std::string> notes;
  std::vector<SurveyAdvice> advice;
  /// A whole image that was made of another one.
  struct ImageCopy {
    std::string path;
    std::string purpose;  // "backup" or "new image"
    Transferred content;
  };
  std::vector<ImageCopy> copies;
  struct FileState {
    Occupancy before;
    std::optional<Occupancy> after;
  };
  std::vector<FileState> files;
  struct Table {
    std::string title;
    std::vector<std::string> head;
    std::vector<std::vector<std::string>> rows;
  };
  std::vector<Table> tables;  // what only one command has
  std::string way_back;       // a command to paste; empty: there is none
  /// How a suggested command is typed.
  CommandText typed = [](const Suggestion& shown) { return shown.command; };

  nlohmann::json document = nlohmann::json::object();  // what --json prints
};

/// "done", "dry run", "refused", "damage found" ...
std::string outcome_of(const RunRecord& record);

/// The document of --json, with "schema", "command" and, under "run", all that the record adds.
nlohmann::json record_json(const RunRecord& record);

/// One self-contained page.
std::string record_page(const RunRecord& record);

/// Writes report.html, report.json and, where there is something to draw, layout.svg, layout.png,
/// occupancy.svg and occupancy.png into the folder, which is made if needed. Throws io.
void write_report(const RunRecord& record, const std::string& folder);

}  // namespace jh
