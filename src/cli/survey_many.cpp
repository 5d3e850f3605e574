#include "cli/survey_many.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>
#include <set>

#include "cli/change_files.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/base/csv.h"
#include "core/carry/checks.h"
#include "core/container/file_resolver.h"
#include "core/guest/many_files.h"
#include "core/plan/overview.h"

namespace jh::cli {
namespace {

// What is smaller and cannot be opened is no disk.
constexpr std::uintmax_t least_disk = 64U << 10;

struct Overviews {
  std::vector<ImageOverview> images;
  std::vector<std::string> no_images;
  std::size_t parts = 0;  // further files of images
};

// Nothing: the file is no image.
std::optional<ImageOverview> look_at(const Parsed& parsed, const std::string& path,
                                     std::set<std::string>& parts) {
  const Session session = open_session(parsed, {path});
  const Guest& guest = *session.guest;
  if (!looks_like_disk(guest)) return std::nullopt;
  ImageOverview overview = overview_of(guest);
  const std::vector<std::string> files = files_of(guest.disks().front());
  overview.host = allocated_on_host(files);
  for (const Error& blocker : host_blockers(*session.host, {path}))
    if (++overview.blockers == 1) overview.state = blocker.what();
  for (std::size_t i = 1; i < files.size(); ++i) parts.insert(real_path(files[i]));
  return overview;
}

Overviews look_at_all(const CommandRun& run, const Parsed& parsed) {
  Overviews all;
  std::set<std::string> parts;
  const std::vector<std::string> files = files_below(parsed.images);
  const auto progress = progress_of(run);
  progress->begin("looking at images", 0);
  for (const std::string& path : files) {
    progress->advance(0);
    Parsed one = parsed;
    one.images = {path};
    try {
      auto overview = look_unlocked({path}, [&] { return look_at(one, path, parts); });
      if (overview)
        all.images.push_back(std::move(*overview));
      else
        all.no_images.push_back(path);
    } catch (const Error& error) {
      if (error.status() == Status::internal) throw;
      std::error_code ignored;
      if (std::filesystem::file_size(path, ignored) < least_disk && !ignored) {
        all.no_images.push_back(path);
        continue;
      }
      ImageOverview trouble;
      trouble.image = path;
      trouble.trouble = error.what();
      all.images.push_back(std::move(trouble));
    }
  }
  progress->end();
  // A part of another image is no guest of its own.
  const auto is_part = [&](const std::string& path) { return parts.contains(real_path(path)); };
  all.parts +=
      std::erase_if(all.images, [&](const ImageOverview& each) { return is_part(each.image); });
  all.parts += std::erase_if(all.no_images, is_part);
  return all;
}

nlohmann::json overviews_json(const Overviews& all) {
  nlohmann::json rows = nlohmann::json::array();
  for (const ImageOverview& each : all.images)
    rows.push_back({{"image", each.image},
                    {"hostname", each.hostname},
                    {"form", each.format},
                    {"disk_size", each.disk},
                    {"file_length", each.length},
                    {"allocated_on_host", each.host},
                    {"used", each.used ? nlohmann::json(*each.used) : nlohmann::json()},
                    {"free_inside", each.inside_free},
                    {"room", each.room},
                    {"floor", each.floor},
                    {"blockers", each.blockers},
                    {"state", each.state},
                    {"trouble", each.trouble}});
  return {{"images", rows}, {"no_images", all.no_images}, {"parts_of_images", all.parts}};
}

std::string overviews_csv(const Overviews& all) {
  std::string text =
      csv_line({"image", "hostname", "form", "disk_size", "file_length", "allocated_on_host",
                "used", "free_inside", "room", "floor", "blockers", "state", "trouble"});
  for (const ImageOverview& each : all.images)
    text +=
        csv_line({printable(each.image), printable(each.hostname), each.format,
                  std::to_string(each.disk), std::to_string(each.length), std::to_string(each.host),
                  each.used ? std::to_string(*each.used) : "", std::to_string(each.inside_free),
                  std::to_string(each.room), std::to_string(each.floor),
                  std::to_string(each.blockers), printable(each.state), printable(each.trouble)});
  return text;
}

RunRecord::Table overviews_table(const Overviews& all) {
  RunRecord::Table table{"Images",
                         {"image", "guest", "form", "disk", "on the host", "used", "free inside",
                          "room", "floor", "state"},
                         {}};
  const auto size = [](std::uint64_t bytes) { return human(Bytes(bytes)); };
  for (const ImageOverview& each : all.images)
    table.rows.push_back({each.image, each.hostname, each.format, size(each.disk), size(each.host),
                          each.used ? size(*each.used) : "", size(each.inside_free),
                          size(each.room), size(each.floor),
                          each.trouble.empty() ? each.state : each.trouble});
  return table;
}

void print_overviews(const Overviews& all) {
  const auto title = [](const char* text, bool right = false) {
    return Cell{text, Style::dim, right};
  };
  const auto size = [](std::uint64_t bytes) {
    return Cell{bytes == 0 ? "" : human(Bytes(bytes)), Style::plain, true};
  };
  std::vector<Row> rows{{title("image"), title("guest"), title("form"), title("disk", true),
                         title("on host", true), title("used", true), title("free", true),
                         title("room", true), title("floor", true), title("state")}};
  ImageOverview sum;
  for (const ImageOverview& each : all.images) {
    if (!each.trouble.empty()) {
      rows.push_back({{each.image, Style::heading},
                      {""},
                      {""},
                      {""},
                      {""},
                      {""},
                      {""},
                      {""},
                      {""},
                      {each.trouble, Style::bad}});
      continue;
    }
    rows.push_back({{each.image, Style::heading},
                    {each.hostname},
                    {each.format},
                    size(each.disk),
                    size(each.host),
                    size(each.used.value_or(0)),
                    size(each.inside_free),
                    size(each.room),
                    size(each.floor),
                    {each.state, each.blockers == 0 ? Style::good : Style::warn}});
    sum.disk += each.disk;
    sum.host += each.host;
    sum.inside_free += each.inside_free;
    sum.room += each.room;
    sum.used = sum.used.value_or(0) + each.used.value_or(0);
  }
  rows.push_back({{"all of them", Style::dim},
                  {""},
                  {""},
                  size(sum.disk),
                  size(sum.host),
                  size(sum.used.value_or(0)),
                  size(sum.inside_free),
                  size(sum.room),
                  {""},
                  {""}});
  print_table(rows);
  std::cout << fmt::format("\n  {} image{}", all.images.size(), all.images.size() == 1 ? "" : "s");
  if (all.parts != 0) std::cout << fmt::format(", {} further files of theirs", all.parts);
  std::cout << fmt::format("; {}\n",
                           all.no_images.size() == 1
                               ? "1 file is not a disk image"
                               : fmt::format("{} files are not disk images", all.no_images.size()));
}

}  // namespace

int survey_each(CommandRun& run, const Parsed& parsed) {
  const bool csv = parsed.values["csv"].as<bool>();
  if (csv && run.json()) wrong_usage("--csv and --json exclude each other", "choose one of them");
  const Overviews all = look_at_all(run, parsed);
  run.record.document = overviews_json(all);
  run.record.tables.push_back(overviews_table(all));
  if (csv)
    std::cout << overviews_csv(all);
  else if (run.text())
    print_overviews(all);
  return 0;
}

}  // namespace jh::cli
