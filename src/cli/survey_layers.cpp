// The layers of a guest as text: pictures, tables, and what would help.
#include <fmt/format.h>

#include <iostream>

#include "cli/picture.h"
#include "cli/survey_text.h"
#include "cli/terminal.h"
#include "core/plan/room.h"
#include "core/report/report.h"

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

std::string mounted_at(const Layer& layer) {
  std::string text;
  for (const std::string& point : layer.mount_points) text += (text.empty() ? "" : " ") + point;
  return text;
}

// How small it could become; nothing is said where it cannot.
std::string floor_text(Floors& floors, const Layer& layer, const OneUnit& unit) {
  const LayerFloor floor = floors.of(layer);
  return floor.size < layer.size ? unit(floor.size) : "";
}

Row layer_row(const Guest& guest, Floors& floors, const Layer& layer, const std::string& name,
              const OneUnit& unit) {
  const Content& content = layer.content;
  const Bytes room = room_of(guest, layer, guest.disks()[layer.disk].size());
  std::string holds = content.name;
  const bool nameless =
      content.kind == ContentKind::nothing || content.kind == ContentKind::unknown;
  if (nameless && layer.partition) holds += " (" + layer.partition->type_name + ")";
  if (!content.label.empty()) holds += " \"" + content.label + "\"";
  const bool logical = layer.partition && layer.partition->role == PartitionRole::logical;
  std::string state = content.state;
  if (content.size && content.kind != ContentKind::physical_volume && *content.size < layer.size &&
      layer.size - *content.size >= 1_MiB)
    state += fmt::format("{}smaller than its place ({})", state.empty() ? "" : ", ",
                         unit(*content.size));
  Style state_style = state == "clean" ? Style::good : Style::plain;
  if (!content.blockers.empty() || content.replay()) state_style = Style::warn;
  Row row{{(logical || layer.is_inner() ? "  " : "") + name, Style::heading},
          {holds},
          {mounted_at(layer)},
          number(unit(layer.size)),
          number(content.used ? unit(*content.used) : ""),
          number(content.used && content.size ? unit(*content.size - *content.used) : ""),
          number(room == Bytes(0) ? "" : "+" + unit(room), Style::good),
          number(guest.is_running() ? "" : floor_text(floors, layer, unit)),
          {state, state_style}};
  return row;
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
      const Layer* device = group.devices[stripe.pv];
      text += fmt::format("{}{} {}-{}", k == 0 ? "" : " ",
                          device ? guest.name_of(*device) : group.open.group.pvs[stripe.pv].name,
                          stripe.extent, stripe.extent + segment.on_each() - 1);
    }
  }
  return text;
}

// What else its header says: of an encrypted layer its cipher and keys.
void print_details(const Guest& guest, const Layer& layer) {
  for_each_layer(layer, [&](const Layer& each) {
    if (each.content.header().details.empty()) return;
    std::string text;
    for (const auto& [name, value] : each.content.header().details)
      text += fmt::format("{}{} {}", text.empty() ? "" : ", ", name, printable(value));
    std::cout << fmt::format("  {}: {}\n", guest.name_of(each), text);
  });
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
  for (const Layer& layer : group.volumes) {
    const lvm::Volume& volume = guest.volume_of(layer);
    if (!volume.visible) continue;
    for_each_layer(layer, [&](const Layer& each) {
      const std::string name = guest.name_of(each);
      rows.push_back(layer_row(guest, floors, each, name.substr(name.find('/') + 1), unit));
      if (!each.is_inner()) rows.back().push_back({lies_on(guest, group, volume), Style::dim});
    });
  }
  print_table(rows);
  for (const Layer& layer : group.volumes) print_details(guest, layer);
}

}  // namespace

void print_disk_layers(const Guest& guest, Floors& floors, std::size_t index) {
  const Disk& disk = guest.disks()[index];
  if (disk.table) {
    const TableFacts& table = disk.table->facts();
    std::cout << fmt::format("  {} with {}-byte sectors, {} partition{}\n", kind_name(table.kind),
                             table.sector_size, table.partitions.size(),
                             table.partitions.size() == 1 ? "" : "s");
  } else if (!disk.trouble && !disk.layers.empty()) {
    std::cout << "  no partition table: the disk holds " << disk.layers.front().content.name
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
  for (const Layer& layer : disk.layers)
    for_each_layer(layer, [&](const Layer& each) {
      rows.push_back(layer_row(guest, floors, each, guest.name_of(each), unit));
    });
  if (disk.layers.empty()) return;  // the advice says why nothing is known of it
  print_table(rows);
  for (const Layer& layer : disk.layers) print_details(guest, layer);
  if (disk.added || guest.is_running()) return;  // nothing becomes smaller while it runs
  const LayerFloor floor = floors.of_disk(index);
  if (floor.size < disk.size())
    std::cout << fmt::format("  floor of the disk: {}; limited by {}\n", human(floor.size),
                             floor.reason);
  else
    std::cout << fmt::format("  floor of the disk: its present size; limited by {}\n",
                             floor.reason);
}

void print_groups(const Guest& guest, Floors& floors) {
  for (const VolumeGroup& group : guest.groups()) {
    print_group(guest, floors, group);
    std::cout << "\n";
  }
}

void print_advice(const Guest& guest) {
  for (const SurveyAdvice& advice : advice_for(guest)) {
    if (!advice.what.empty()) std::cout << "  " << printable(advice.what) << "\n";
    if (!advice.next.empty())
      std::cout << "      " << styled(text_of(advice.next), Style::command) << "\n";
  }
}

}  // namespace jh::cli
