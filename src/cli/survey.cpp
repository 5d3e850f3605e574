#include <fmt/format.h>

#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>
#include <set>

#include "cli/change_files.h"
#include "cli/commands.h"
#include "cli/live.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/survey_many.h"
#include "cli/survey_text.h"
#include "cli/terminal.h"
#include "core/base/moment.h"
#include "core/carry/checks.h"
#include "core/container/states.h"
#include "core/figure/layout.h"
#include "core/figure/painter.h"
#include "core/plan/floors.h"
#include "core/plan/room.h"
#include "core/report/output_file.h"
#include "core/report/report.h"
#include "core/store/ledger.h"

namespace jh::cli {
namespace {

// Who writes to an image that others build on.
std::optional<std::string> use_of(const std::string& path) {
  try {
    check_not_written_elsewhere(path);
    return std::nullopt;
  } catch (const Error& error) {
    return error.what();
  }
}

// What the image's files keep of the disk, as a tree; of a single state nothing is said.
void print_states(const Disk& disk) {
  const std::vector<DiskState> states = states_of(*disk.container, disk.path);
  if (states.size() < 2) return;
  const std::filesystem::path folder = std::filesystem::absolute(disk.path).parent_path();
  std::vector<Row> rows{{{"  state of the disk", Style::dim},
                         {"size", Style::dim, true},
                         {"memory", Style::dim, true},
                         {"its own", Style::dim, true}}};
  for (std::size_t i = 0; i < states.size(); ++i) {
    const DiskState& state = states[i];
    const bool snapshot = state.kind == DiskState::Kind::snapshot;
    // Another one on this level follows before one further out does.
    bool last = true;
    for (std::size_t next = i + 1; next < states.size() && states[next].level >= state.level;
         ++next)
      last = last && states[next].level != state.level;
    const unsigned level = state.level;
    std::string name(level == 0 ? 2 : 3 * level - 1, ' ');
    if (level != 0) name += last ? "└─ " : "├─ ";
    const std::filesystem::path path = std::filesystem::absolute(state.name);
    name += snapshot ? fmt::format("snapshot {} \"{}\" of {}", printable(state.id),
                                   printable(state.name), minute_of(state.made_at))
            : path.parent_path() == folder ? printable(path.filename().string())
                                           : printable(state.name);
    std::string note;
    if (state.kind == DiskState::Kind::active)
      note = level == 0 ? "seen by the guest" : "seen by the guest, builds on the others";
    if (state.kind == DiskState::Kind::parent)
      note = use_of(state.name).value_or("others build on it");
    rows.push_back({{name},
                    {human(state.disk_size), Style::plain, true},
                    {state.memory == Bytes(0) ? "" : human(state.memory), Style::plain, true},
                    {state.alone ? human(Bytes(*state.alone)) : "", Style::plain, true},
                    {note, Style::dim}});
  }
  print_table(rows);
}

void print_container(const Disk& disk, const FileStore& file, Host& host) {
  const ContainerFacts facts = disk.container->facts();
  const std::uint64_t allocated = file.allocated() + allocated_on_host(facts.parts);
  std::string format = file.is_block_device()
                           ? "block device"
                           : fmt::format("{}, {}", format_name(facts.format),
                                         allocation_name(allocation_on_host(facts, allocated)));
  if (!facts.variant.empty()) format += fmt::format(" ({})", facts.variant);
  std::cout << fmt::format("  {}; the guest sees {}\n", format, spelled_out(facts.disk_size));
  if (facts.blocks != 0) {
    const std::uint64_t kept = disk.container->blocks_kept();
    std::cout << fmt::format("  {} of {} blocks of {} are kept ({}%)", grouped(kept),
                             grouped(facts.blocks), human(facts.block_size),
                             kept * 100 / facts.blocks);
    if (!facts.limit.empty()) std::cout << fmt::format("; such a disk reaches {}", facts.limit);
    std::cout << "\n";
  }
  if (!file.is_block_device())
    std::cout << fmt::format("  on the host: {} in use of a length of {}, {} free\n",
                             human(Bytes(allocated)), human(facts.file_length),
                             human(Bytes(host.free_space(disk.path))));
  for (const std::string& part : facts.parts) std::cout << "  with " << printable(part) << "\n";
  print_states(disk);
  for (const std::string& what : facts.pending_repairs)
    std::cout << styled("  before a change: ", Style::warn) << printable(what) << "\n";
  for (const std::string& note : facts.notes) std::cout << "  " << printable(note) << "\n";
}

void print_ledger(Host& host, const Guest& guest, const Ledger& ledger) {
  // By the names that the user gave.
  std::string images;
  for (const Ledger::Image& image : ledger.images()) {
    if (!host.exists(image.path)) continue;
    std::string name = image.path;
    for (const Disk& disk : guest.disks())
      if (host.identity(disk.path) == host.identity(image.path)) name = disk.path;
    images += " " + shell_word(name);
  }
  if (ledger.state() == Ledger::State::done && ledger.has_undo() && !guest.asleep().empty())
    std::cout << "  The last change can be taken back once the guest is shut down.\n";
  else if (ledger.state() == Ledger::State::done && ledger.has_undo())
    std::cout << "  The last change can still be taken back: "
              << styled("juneheath undo" + images, Style::command) << "\n";
  else if (ledger.state() == Ledger::State::done)
    std::cout << "  A change left its ledger behind; to tidy it away: "
              << styled("juneheath recover" + images, Style::command) << "\n";
  else
    std::cout << styled("  A change of this image was interrupted.", Style::bad)
              << " First run: " << styled("juneheath recover" + images, Style::command) << "\n";
}

nlohmann::json survey_document(const Session& session, const std::vector<Error>& blockers) {
  nlohmann::json document = survey_json(*session.guest, command_text);
  for (std::size_t i = 0; i < session.files.size(); ++i) {
    const FileStore& file = *session.files[i];
    nlohmann::json& disk = document["disks"][i];
    disk["allocated_on_host"] = file.allocated();
    for (nlohmann::json& state : disk["states"])
      if (state["kind"] == "parent")
        if (const auto use = use_of(state["name"])) state["in_use"] = *use;
    if (file.is_block_device()) continue;
    disk["store"] = allocation_name(
        allocation_on_host(session.guest->disks()[i].container->facts(), file.allocated()));
  }
  document["host_blockers"] = nlohmann::json::array();
  for (const Error& blocker : blockers)
    document["host_blockers"].push_back(error_brief(blocker, command_text));
  return document;
}

std::vector<RunRecord::FileState> files_now(const CommandRun& run, const Session& session) {
  const auto progress = progress_of(run);
  std::vector<RunRecord::FileState> all;
  for (std::size_t i = 0; i < session.guest->disks().size(); ++i)
    all.push_back({occupancy_of(*session.guest, i,
                                allocated_on_host(files_of(session.guest->disks()[i])), *progress),
                   {}});
  return all;
}

}  // namespace

void write_figure(const Guest& guest, const std::string& path) {
  const std::string ending = fold_case(std::filesystem::path(path).extension().string());
  if (ending != ".svg" && ending != ".png")
    wrong_usage("a figure is an SVG or a PNG file", "name it FILE.svg or FILE.png");
  const Scene scene = layout_scene(view_with_states(guest), std::nullopt, false, painter_measure());
  write_output(path,
               ending == ".svg" ? svg_of(scene, light_palette()) : png_of(scene, light_palette()));
}

void print_survey(const Session& session, Host& host, const std::vector<Error>& blockers) {
  const Guest& guest = *session.guest;
  Floors floors(guest);
  if (!guest.hostname().empty())
    std::cout << "guest " << styled(guest.hostname(), Style::heading) << "\n\n";
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    std::cout << styled(guest.disks()[i].path, Style::heading) << "\n";
    print_container(guest.disks()[i], *session.files[i], host);
    print_disk_layers(guest, floors, i);
    std::cout << "\n";
  }
  print_groups(guest, floors);
  for (const Error& blocker : blockers)
    std::cout << styled("  not to be changed now: ", Style::warn) << printable(blocker.what())
              << "\n      " << printable(text_of(blocker.next())) << "\n";
  print_advice(guest);
  // One ledger of a change over several disks.
  std::set<std::string> told;
  for (const Disk& disk : guest.disks()) {
    const auto ledger = Ledger::open(host, disk.path, /*tidy=*/false);
    if (ledger && told.insert(std::filesystem::absolute(ledger->path()).string()).second)
      print_ledger(host, guest, *ledger);
  }
}

CommandLine survey_line() {
  auto own = own_options("Survey");
  own.add_options()("figure", po::value<std::string>()->value_name("FILE"),
                    "draw the present state, as .svg or .png")(
      "each", po::bool_switch(), "every image is a guest of its own; folders are walked")(
      "csv", po::bool_switch(), "with --each: comma-separated values")(
      "live", po::bool_switch(), "the system that this runs on; IMAGE: only these of its disks");
  return {
      "survey",
      "IMAGE...",
      "read only: every layer, its room, what stands in the way",
      "Shows every layer of a guest's disks: size, used, free, the room it could still take, its\n"
      "state, what stands in the way, and the commands that would help. Changes nothing. Used and\n"
      "free are those of the filesystem: df leaves out its own tables, and what it keeps for root.",
      "  juneheath survey heath.img\n  juneheath survey system.img data.img --json\n"
      "  juneheath survey --each /srv/guests --csv\n  juneheath survey --live\n",
      own};
}

namespace {

int survey_unlocked(CommandRun& run, const Parsed& parsed) {
  FileHost host = host_for(parsed, parsed.images);
  const Session session = open_session(parsed, parsed.images);
  run.record_before(*session.guest);
  std::vector<Error> blockers;
  if (run.json() || run.reports() || run.text())
    blockers = host_blockers(host, session.guest->image_paths());
  if (run.json() || run.reports()) run.record.document = survey_document(session, blockers);
  if (run.reports()) {
    run.record.advice = advice_for(*session.guest);
    run.record.files = files_now(run, session);
  }
  if (parsed.values.count("figure") != 0)
    write_figure(*session.guest, parsed.values["figure"].as<std::string>());
  if (!run.text()) return 0;
  print_survey(session, host, blockers);
  if (parsed.common.verbose) {
    std::uint64_t read = 0;
    for (const auto& file : session.files) read += file->bytes_read();
    std::cout << "  " << human(Bytes(read)) << " read\n";
  }
  return 0;
}

}  // namespace

int run_survey(CommandRun& run, const Parsed& parsed) {
  if (parsed.values["live"].as<bool>()) {
    if (parsed.values["each"].as<bool>())
      wrong_usage("--each is for images, and --live for the system that this runs on",
                  "leave one of them out");
    return survey_live(run, parsed);
  }
  if (parsed.values["each"].as<bool>()) return survey_each(run, parsed);
  if (parsed.values["csv"].as<bool>())
    wrong_usage("--csv is for many images", "add --each, or use --json");
  return look_unlocked(parsed.images, [&] { return survey_unlocked(run, parsed); });
}

}  // namespace jh::cli
