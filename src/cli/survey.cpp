#include <fmt/format.h>

#include <ctime>
#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>
#include <set>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/picture.h"
#include "cli/session.h"
#include "cli/survey_many.h"
#include "cli/survey_text.h"
#include "cli/terminal.h"
#include "core/base/uuid.h"
#include "core/figure/layout.h"
#include "core/figure/painter.h"
#include "core/plan/floors.h"
#include "core/plan/room.h"
#include "core/report/output_file.h"
#include "core/report/report.h"
#include "core/store/ledger.h"

namespace jh::cli {
namespace {

// All sizes of one disk in one unit, so that they can be compared by eye.
class OneUnit {
 public:
  explicit OneUnit(Bytes largest) : gib_(largest >= 10_GiB) {}
  const char* name() const { return gib_ ? "GiB" : "MiB"; }
  std::string operator()(Bytes size) const {
    const double unit = gib_ ? 1024.0 * 1024 * 1024 : 1024.0 * 1024;
    return fmt::format("{:.{}f}", static_cast<double>(size.value()) / unit, gib_ ? 2 : 1);
  }

 private:
  bool gib_;
};

Cell number(const std::string& text, Style style = Style::plain) { return {text, style, true}; }

std::string mounted_at(const Place& place) {
  std::string text;
  for (const std::string& point : place.mount_points) text += (text.empty() ? "" : " ") + point;
  return text;
}

// How small it could become; nothing is said where it cannot.
std::string floor_text(Floors& floors, const Place& place, const OneUnit& unit) {
  const LayerFloor floor = floors.of(place);
  return floor.size < place.size ? unit(floor.size) : "";
}

Row place_row(const Guest& guest, Floors& floors, const Place& place, const OneUnit& unit) {
  const Content& content = place.content;
  const Bytes room = room_of(guest, place, guest.disks()[place.disk].size());
  std::string holds = content.name;
  const bool nameless =
      content.kind == ContentKind::nothing || content.kind == ContentKind::unknown;
  if (nameless && place.partition) holds += " (" + place.partition->type_name + ")";
  if (!content.label.empty()) holds += " \"" + content.label + "\"";
  const bool logical = place.partition && place.partition->role == PartitionRole::logical;
  std::string state = content.state;
  if (content.size && content.kind != ContentKind::physical_volume && *content.size < place.size &&
      place.size - *content.size >= 1_MiB)
    state += fmt::format("{}smaller than its place ({})", state.empty() ? "" : ", ",
                         unit(*content.size));
  Style state_style = state == "clean" ? Style::good : Style::plain;
  if (!content.blockers.empty() || content.settling) state_style = Style::warn;
  Row row{{(logical ? "  " : "") + guest.name_of(place), Style::heading},
          {holds},
          {mounted_at(place)},
          number(unit(place.size)),
          number(content.used ? unit(*content.used) : ""),
          number(content.used && content.size ? unit(*content.size - *content.used) : ""),
          number(room == Bytes(0) ? "" : "+" + unit(room), Style::good),
          number(floor_text(floors, place, unit)),
          {state, state_style}};
  return row;
}

std::string day_of(std::uint64_t seconds) {
  const auto time = static_cast<std::time_t>(seconds);
  std::tm parts{};
  ::gmtime_r(&time, &parts);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}", parts.tm_year + 1900, parts.tm_mon + 1,
                     parts.tm_mday, parts.tm_hour, parts.tm_min);
}

void print_container(const Disk& disk, const FileStore& file, Host& host) {
  const ContainerFacts facts = disk.container->facts();
  std::uint64_t allocated = file.allocated();
  for (const std::string& part : facts.parts)
    allocated += FileStore(part, Access::read_only).allocated();
  std::string form = file.is_block_device()
                         ? "block device"
                         : fmt::format("{}, {}", form_name(facts.form),
                                       keeping_name(keeping_on_host(facts, allocated)));
  if (!facts.variant.empty()) form += fmt::format(" ({})", facts.variant);
  std::cout << fmt::format("  {}; the guest sees {}\n", form, spelled_out(facts.disk_size));
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
  for (const std::string& parent : facts.parents)
    std::cout << styled("  builds on ", Style::warn) << printable(parent) << "\n";
  for (const Snapshot& snapshot : facts.snapshots)
    std::cout << styled("  snapshot ", Style::warn)
              << fmt::format("{} \"{}\" of {} UTC\n", printable(snapshot.id),
                             printable(snapshot.name), day_of(snapshot.made_at));
  for (const std::string& what : facts.unsettled)
    std::cout << styled("  before a change: ", Style::warn) << printable(what) << "\n";
  for (const std::string& note : facts.notes) std::cout << "  " << printable(note) << "\n";
}

void print_disk(const Guest& guest, Floors& floors, std::size_t index, const FileStore& file,
                Host& host) {
  const Disk& disk = guest.disks()[index];
  std::cout << styled(disk.path, Style::heading) << "\n";
  print_container(disk, file, host);
  if (disk.table) {
    const TableFacts& table = disk.table->facts();
    std::cout << fmt::format("  {} with {}-byte sectors, {} partition{}\n", kind_name(table.kind),
                             table.sector_size, table.partitions.size(),
                             table.partitions.size() == 1 ? "" : "s");
  } else if (!disk.trouble) {
    std::cout << "  no partition table: the disk holds " << disk.places.front().content.name
              << "\n";
  }
  std::cout << "\n" << disk_picture(guest, disk, drawing_width()) << "\n";

  const OneUnit unit(disk.size());
  const auto title = [&](const std::string& text, bool right = false) {
    return Cell{text, Style::dim, right};
  };
  std::vector<Row> rows{{title("layer"), title("holds"), title("mounted at"),
                         title(fmt::format("size {}", unit.name()), true), title("used", true),
                         title("free", true), title("room", true), title("floor", true),
                         title("state")}};
  for (const Place& place : disk.places) rows.push_back(place_row(guest, floors, place, unit));
  print_table(rows);
  if (disk.added) return;
  const LayerFloor floor = floors.of_disk(index);
  if (floor.size < disk.size())
    std::cout << fmt::format("  floor of the disk: {}; there stands {}\n", human(floor.size),
                             floor.reason);
  else
    std::cout << fmt::format("  floor of the disk: its present size; there stands {}\n",
                             floor.reason);
}

// Where a volume lies, for each of its segments: "p3 from extent 60".
std::string lies_on(const Guest& guest, const VolumeGroup& group, const lvm::Volume& volume) {
  constexpr std::size_t most = 3;
  std::string text;
  for (std::size_t i = 0; i < volume.segments.size(); ++i) {
    if (i == most) return text + fmt::format(" and {} more", volume.segments.size() - most);
    const lvm::Segment& segment = volume.segments[i];
    if (!text.empty()) text += ", ";
    if (!segment.plain()) {
      text += segment.type;
      continue;
    }
    if (segment.stripes.size() > 1) text += fmt::format("{} stripes: ", segment.stripes.size());
    for (std::size_t k = 0; k < segment.stripes.size(); ++k) {
      const lvm::Stripe& stripe = segment.stripes[k];
      const Place* device = group.devices[stripe.pv];
      text += fmt::format("{}{} {}-{}", k == 0 ? "" : " ",
                          device ? guest.name_of(*device) : group.open.group.pvs[stripe.pv].name,
                          stripe.extent, stripe.extent + segment.on_each() - 1);
    }
  }
  return text;
}

void print_group(const Guest& guest, Floors& floors, const VolumeGroup& group) {
  const lvm::Group& facts = group.open.group;
  std::cout << styled("group " + facts.name, Style::heading) << "\n"
            << fmt::format("  {} extents of {}, {} free; metadata number {}\n\n",
                           grouped(facts.total_extents()), human(Bytes(facts.extent_size)),
                           grouped(facts.free_extents()), facts.sequence);
  const OneUnit unit(group.bytes(facts.total_extents()));
  const auto title = [&](const std::string& text, bool right = false) {
    return Cell{text, Style::dim, right};
  };
  std::vector<Row> rows{{title("volume"), title("holds"), title("mounted at"),
                         title(fmt::format("size {}", unit.name()), true), title("used", true),
                         title("free", true), title("room", true), title("floor", true),
                         title("state"), title("extents on")}};
  for (const Place& place : group.volumes) {
    const lvm::Volume& volume = guest.volume_of(place);
    if (!volume.visible) continue;
    Row row = place_row(guest, floors, place, unit);
    row[0].text = volume.name;
    row.push_back({lies_on(guest, group, volume), Style::dim});
    rows.push_back(std::move(row));
  }
  print_table(rows);
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
  if (ledger.state() == Ledger::State::done && ledger.has_undo())
    std::cout << "  The last change can still be taken back: "
              << styled("juneheath undo" + images, Style::command) << "\n";
  else if (ledger.state() == Ledger::State::done)
    std::cout << "  A change left its ledger behind; to tidy it away: "
              << styled("juneheath recover" + images, Style::command) << "\n";
  else
    std::cout << styled("  A change of this image was interrupted.", Style::bad)
              << " First run: " << styled("juneheath recover" + images, Style::command) << "\n";
}

nlohmann::json survey_document(const Session& session) {
  nlohmann::json document = survey_json(*session.guest);
  for (std::size_t i = 0; i < session.files.size(); ++i) {
    const FileStore& file = *session.files[i];
    nlohmann::json& disk = document["disks"][i];
    disk["allocated_on_host"] = file.allocated();
    if (file.is_block_device()) continue;
    disk["store"] = keeping_name(
        keeping_on_host(session.guest->disks()[i].container->facts(), file.allocated()));
  }
  return document;
}

std::vector<RunRecord::FileState> files_now(const Run& run, const Session& session) {
  const auto progress = progress_of(run);
  std::vector<RunRecord::FileState> all;
  for (std::size_t i = 0; i < session.guest->disks().size(); ++i)
    all.push_back({occupancy_of(*session.guest, i,
                                allocated_on_host(files_of(session.guest->disks()[i])), *progress),
                   {}});
  return all;
}

// --figure: by its ending, as SVG or as PNG.
void write_figure(const Guest& guest, const std::string& path) {
  const std::string ending = fold_case(std::filesystem::path(path).extension().string());
  if (ending != ".svg" && ending != ".png")
    wrong_usage("a figure is an SVG or a PNG file", "name it FILE.svg or FILE.png");
  const Scene scene = layout_scene(view_of(guest), std::nullopt, false, painter_measure());
  write_output(path,
               ending == ".svg" ? svg_of(scene, light_palette()) : png_of(scene, light_palette()));
}

}  // namespace

void print_survey(const Session& session, Host& host) {
  const Guest& guest = *session.guest;
  Floors floors(guest);
  if (!guest.hostname().empty())
    std::cout << "guest " << styled(guest.hostname(), Style::heading) << "\n\n";
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    print_disk(guest, floors, i, *session.files[i], host);
    std::cout << "\n";
  }
  for (const VolumeGroup& group : guest.groups()) {
    print_group(guest, floors, group);
    std::cout << "\n";
  }
  for (const Advice& advice : advice_for(guest)) {
    if (!advice.what.empty()) std::cout << "  " << printable(advice.what) << "\n";
    if (!advice.command.empty())
      std::cout << "      " << styled(advice.command, Style::command) << "\n";
  }
  // One ledger of a change over several disks.
  std::set<std::string> told;
  for (const Disk& disk : guest.disks()) {
    const auto ledger = Ledger::open(host, disk.path, /*tidy=*/false);
    if (ledger && told.insert(std::filesystem::absolute(ledger->path()).string()).second)
      print_ledger(host, guest, *ledger);
  }
}

CommandLine survey_line() {
  namespace po = boost::program_options;
  po::options_description own("Survey", 102, 60);
  own.add_options()("figure", po::value<std::string>()->value_name("FILE"),
                    "draw the present state, as .svg or .png")(
      "each", po::bool_switch(), "every image is a guest of its own; folders are walked")(
      "csv", po::bool_switch(), "with --each: comma-separated values");
  return {
      "survey",
      "IMAGE...",
      "read only: every layer, its room, what stands in the way",
      "Shows every layer of a guest's disks: size, used, free, the room it could still take, its\n"
      "state, what stands in the way, and the commands that would help. Changes nothing.",
      "  juneheath survey heath.img\n  juneheath survey system.img data.img --json\n"
      "  juneheath survey --each /srv/guests --csv\n",
      own};
}

int run_survey(Run& run, const Arguments& arguments) {
  const Parsed parsed = parse(run, survey_line(), arguments);
  if (parsed.help_shown) return 0;
  if (parsed.values["each"].as<bool>()) return survey_each(run, parsed);
  if (parsed.values["csv"].as<bool>())
    wrong_usage("--csv is for many images", "add --each, or use --json");
  FileHost host = host_for(parsed, parsed.images);
  const Session session = open_session(parsed, parsed.images);
  run.saw(*session.guest);
  if (run.json() || run.reports()) run.record.document = survey_document(session);
  if (run.reports()) {
    run.record.advice = advice_for(*session.guest);
    run.record.files = files_now(run, session);
  }
  if (parsed.values.count("figure") != 0)
    write_figure(*session.guest, parsed.values["figure"].as<std::string>());
  if (!run.text()) return 0;
  print_survey(session, host);
  if (parsed.common.verbose) {
    std::uint64_t read = 0;
    for (const auto& file : session.files) read += file->bytes_read();
    std::cout << "  " << human(Bytes(read)) << " read\n";
  }
  return 0;
}

}  // namespace jh::cli
