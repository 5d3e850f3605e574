#include "core/report/record.h"

#include <fmt/format.h>

#include <ctime>
#include <filesystem>

#include "core/base/shell_word.h"
#include "core/base/words.h"
#include "core/figure/layout.h"
#include "core/figure/painter.h"
#include "core/report/output_file.h"

namespace jh {

using nlohmann::json;

namespace {

json evidence_json(const std::vector<Evidence>& all) {
  json rows = json::array();
  for (const Evidence& each : all)
    rows.push_back({{"what", each.what}, {"count", each.count}, {"unit", each.unit}});
  return rows;
}

json sizes_json(const std::vector<LayerSize>& sizes) {
  json rows = json::array();
  for (const LayerSize& size : sizes) {
    json row{{"layer", size.name}, {"detail", size.detail}, {"size", size.size.value()}};
    if (size.free) row["free"] = size.free->value();
    rows.push_back(std::move(row));
  }
  return rows;
}

const char* kind_word(LayerVerdict::Kind kind) {
  return word_of<LayerVerdict::Kind::not_looked_into>(kind, "sound", "sound_but", "damaged",
                                                      "not_looked_into");
}

json occupancy_json(const Occupancy& file) {
  return {{"length", file.length},
          {"host", file.host},
          {"disk", file.disk},
          {"used", file.used},
          {"kept_for_nobody", file.idle}};
}

json files_json(const std::vector<RunRecord::FileState>& files) {
  json rows = json::array();
  for (const RunRecord::FileState& file : files) {
    json row{{"image", file.before.image}, {"before", occupancy_json(file.before)}};
    if (file.after) row["after"] = occupancy_json(*file.after);
    rows.push_back(std::move(row));
  }
  return rows;
}

std::string with_ending(const std::string& stem, std::size_t index, const char* ending) {
  return index == 0 ? stem + ending : fmt::format("{}-{}{}", stem, index + 1, ending);
}

}  // namespace

std::string outcome_of(const RunRecord& record) {
  const auto status = static_cast<Status>(record.status);
  if (status != Status::done) return status_word(status);
  return record.dry_run ? "dry run" : "done";
}

json record_json(const RunRecord& record) {
  json document = record.document;
  document["schema"] = "juneheath/1";
  document["command"] = record.command;
  if (record.error && !document.contains("error"))
    document["error"] = error_json(*record.error, record.typed);
  json run{{"words", record.words},
           {"version", record.version},
           {"folder", record.folder},
           {"started", record.started},
           {"seconds", record.seconds},
           {"status", record.status},
           {"outcome", outcome_of(record)},
           {"changed", record.changed},
           {"images", record.images},
           {"layers", changes_json(record.layers)},
           {"sizes", sizes_json(record.sizes)},
           {"proof", evidence_json(record.evidence)},
           {"figures", evidence_json(record.figures)},
           {"notes", record.notes},
           {"way_back", record.way_back}};
  if (record.plan) run["plan"] = plan_json(*record.plan);
  json verdicts = json::array();
  for (const LayerVerdict& verdict : record.verdicts)
    verdicts.push_back({{"layer", verdict.layer},
                        {"verdict", verdict.verdict},
                        {"kind", kind_word(verdict.kind)}});
  run["verdicts"] = std::move(verdicts);
  run["files"] = files_json(record.files);
  json copies = json::array();
  for (const RunRecord::ImageCopy& copy : record.copies)
    copies.push_back({{"path", copy.path},
                      {"purpose", copy.purpose},
                      {"shared", copy.content.shared},
                      {"copied", copy.content.copied}});
  run["copies"] = std::move(copies);
  document["run"] = std::move(run);
  return document;
}

void write_report(const RunRecord& record, const std::string& folder) {
  namespace files = std::filesystem;
  make_folder(folder, "the report's folder cannot be made");
  const auto path = [&](const std::string& name) { return (files::path(folder) / name).string(); };
  const Measure measure = painter_measure();
  if (record.before || record.after) {
    const GuestView& first = record.before ? *record.before : *record.after;
    const Scene scene =
        layout_scene(first, record.before ? record.after : std::nullopt, record.dry_run, measure);
    write_output(path("layout.svg"), svg_of(scene, light_palette()));
    write_output(path("layout.png"), png_of(scene, light_palette()));
  }
  for (std::size_t i = 0; i < record.files.size(); ++i) {
    const Scene scene = occupancy_scene(record.files[i].before, record.files[i].after, measure);
    write_output(path(with_ending("occupancy", i, ".svg")), svg_of(scene, light_palette()));
    write_output(path(with_ending("occupancy", i, ".png")), png_of(scene, light_palette()));
  }
  write_output(path("report.html"), record_page(record));
  write_output(path("report.json"), record_json(record).dump(2, ' ', /*ensure_ascii=*/true,
                                                             json::error_handler_t::replace) +
                                        "\n");
}

}  // namespace jh
