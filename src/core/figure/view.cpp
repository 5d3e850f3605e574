#include "core/figure/view.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/moment.h"
#include "core/base/printable.h"
#include "core/container/states.h"

namespace jh {
namespace {

constexpr Bytes worth_showing = 2_MiB;  // of room between partitions

PieceKind kind_of(const Layer& layer) {
  switch (layer.content.kind) {
    case ContentKind::filesystem:
      return layer.content.filesystem_kind() != nullptr &&
                     !layer.content.filesystem_kind()->holds_files &&
                     layer.content.filesystem_kind()->resizable
                 ? PieceKind::swap
                 : PieceKind::files;
    case ContentKind::physical_volume:
      return PieceKind::device;
    case ContentKind::encrypted:
    case ContentKind::locked:
      return PieceKind::encrypted;
    case ContentKind::nothing:
      return PieceKind::empty;
    default:
      return PieceKind::unknown;
  }
}

PieceView piece_of(const Guest& guest, const Layer& layer, Bytes start) {
  PieceView piece{
      guest.name_of(layer), guest.best_name(layer), layer.content.name, kind_of(layer), start,
      layer.size,           layer.content.size,     layer.content.used};
  if (piece.kind == PieceKind::device) {
    piece.holds = "of group " + layer.content.label;
    piece.content.reset();
    piece.used.reset();
  }
  if (piece.kind == PieceKind::empty)
    piece.holds = layer.partition ? layer.partition->type_name : std::string();
  return piece;
}

// What lies between the pieces, and behind the last of them.
void add_room(PanelView& panel, Bytes first, Bytes end) {
  std::sort(panel.pieces.begin(), panel.pieces.end(),
            [](const PieceView& a, const PieceView& b) { return a.start < b.start; });
  std::vector<PieceView> all;
  Bytes at = first;
  const auto room_until = [&](Bytes until) {
    if (until > at && until - at >= worth_showing)
      all.push_back({"", "room", "", PieceKind::room, at, until - at, {}, {}});
  };
  for (PieceView& piece : panel.pieces) {
    room_until(piece.start);
    at = std::max(at, piece.end());
    all.push_back(std::move(piece));
  }
  room_until(end);
  panel.pieces = std::move(all);
}

std::string disk_note(const Disk& disk) {
  if (disk.added) return "new";
  const ContainerFacts facts = disk.container->facts();
  return fmt::format("{}, {} long", format_name(facts.format), human(facts.file_length));
}

std::string file_name_of(const std::string& path) { return path.substr(path.rfind('/') + 1); }

// "snapshot 1 "net round 12", 2026-08-29 11:40 UTC: 192 MiB, 2 MiB of memory; 2.19 MiB alone".
std::string words_for(const DiskState& state) {
  const bool snapshot = state.kind == DiskState::Kind::snapshot;
  std::string words = snapshot ? fmt::format("snapshot {} \"{}\", {}", printable(state.id),
                                             printable(state.name), minute_of(state.made_at))
                               : printable(file_name_of(state.name));
  words += ": " + human(state.disk_size);
  if (state.memory != Bytes(0)) words += fmt::format(", {} of memory", human(state.memory));
  if (state.alone)
    words += fmt::format("; {} {}", human(Bytes(*state.alone)), snapshot ? "alone" : "long");
  if (state.kind == DiskState::Kind::active) words += "; seen by the guest";
  return words;
}

PanelView disk_panel(const Guest& guest, std::size_t index) {
  const Disk& disk = guest.disks()[index];
  PanelView panel;
  panel.key = fmt::format("disk {}", index + 1);
  panel.title = file_name_of(disk.path);
  panel.note = disk_note(disk);
  panel.size = disk.size();
  for (const Layer& layer : disk.layers)
    if (layer.content.kind != ContentKind::logical_partitions)
      panel.pieces.push_back(piece_of(guest, layer, layer.offset));
  // In front of the first partition lies what belongs to the table, and to boot loaders.
  Bytes first{};
  if (!panel.pieces.empty()) {
    first = panel.pieces.front().start;
    for (const PieceView& piece : panel.pieces) first = std::min(first, piece.start);
  }
  add_room(panel, first, panel.size);
  return panel;
}

PanelView group_panel(const Guest& guest, const VolumeGroup& group) {
  const lvm::Group& facts = group.open.group;
  PanelView panel;
  panel.key = "group " + facts.name;
  panel.title = panel.key;
  panel.note = fmt::format("extents of {}", human(Bytes(facts.extent_size)));
  panel.group = true;
  panel.size = group.bytes(facts.total_extents());
  Bytes at{};
  for (std::size_t pv = 0; pv < facts.pvs.size(); ++pv) {
    const std::string name =
        group.devices[pv] != nullptr ? guest.name_of(*group.devices[pv]) : facts.pvs[pv].name;
    panel.devices.push_back(
        {name, name, "", PieceKind::device, at, group.bytes(facts.pvs[pv].extents), {}, {}});
    at = panel.devices.back().end();
  }
  at = {};
  for (const Layer& layer : group.volumes) {
    if (!guest.volume_of(layer).visible) continue;
    PieceView piece = piece_of(guest, layer, at);
    at = piece.end();
    panel.size = std::max(panel.size, at);  // volumes without extents of their own
    panel.pieces.push_back(std::move(piece));
  }
  add_room(panel, {}, panel.size);
  return panel;
}

// --- a plan, drawn before it is carried out

// The present view, with everything where the planned layout has it.
class Planned {
 public:
  Planned(const Guest& guest, const Plan& plan)
      : guest_(guest), plan_(plan), layout_(plan.after), view_(view_of(guest)) {}

  GuestView run() {
    for (PanelView& panel : view_.panels)
      std::erase_if(panel.pieces,
                    [](const PieceView& piece) { return piece.kind == PieceKind::room; });
    for (std::size_t i = 0; i < layout_.disks.size(); ++i) place_partitions(i);
    for (const VolumeGroup& group : guest_.groups()) place_group(group);
    for (const auto& [id, size] : layout_.contents)
      if (PieceView* piece = find_piece(id); piece != nullptr && resized(id)) piece->content = size;
    for (PanelView& panel : view_.panels) finish(panel);
    return std::move(view_);
  }

 private:
  PieceView* find_piece(const LayerId& id) {
    const Layer* layer = guest_.find(id);
    if (layer == nullptr) return nullptr;
    const std::string key = guest_.name_of(*layer);
    for (PanelView& panel : view_.panels)
      for (PieceView& each : panel.pieces)
        if (each.key == key) return &each;
    return nullptr;
  }
  bool resized(const LayerId& id) const {
    return plan_.has<step::GrowContent>(id) || plan_.has<step::ShrinkContent>(id);
  }

  static void put(PieceView& piece, Bytes start, Bytes size) {
    const bool filled = piece.content == piece.size;
    piece.start = start;
    piece.size = size;
    if (filled) piece.content = piece.size;
  }

  void place_partitions(std::size_t index) {
    PanelView& panel = view_.panels[index];
    panel.size = plan_.disks[index].to;
    const Layout::TablePlace* table = layout_.table_on(LayerId(index));
    if (table == nullptr) return;
    for (const auto& [number, place] : table->partitions) {
      const Bytes start = to_bytes(place.first, table->sector_size);
      const Bytes size = to_bytes(place.end - place.first, table->sector_size);
      const LayerId id(index, {}, {number});
      if (PieceView* piece = find_piece(id)) {
        if (piece->start != start || piece->size != size) put(*piece, start, size);
      } else if (place.created) {
        const std::string name = name_of_new(id);
        panel.pieces.push_back({name, name, "new", PieceKind::device, start, size, {}, {}});
      }
    }
  }

  std::string name_of_new(const LayerId& id) const {
    std::string name;
    plan_.for_each<step::CreatePartition>([&](const Step& step, const step::CreatePartition&) {
      if (step.layer == id) name = step.name;
    });
    return name;
  }

  // A group is as large as its devices will be.
  void place_group(const VolumeGroup& group) {
    const lvm::Group& facts = group.open.group;
    const Layout::GroupPlace& place = layout_.groups.at(facts.name);
    for (PanelView& panel : view_.panels) {
      if (panel.key != "group " + facts.name || !plan_.changes(group)) continue;
      panel.devices.clear();
      for (const Layout::Device& device : place.devices) {
        const Layer* layer = guest_.find(device.layer);
        const std::string name =
            layer == nullptr ? name_of_new(device.layer) : guest_.name_of(*layer);
        panel.devices.push_back(
            {name, name, "", PieceKind::device, Bytes(), place.bytes(device.extents), {}, {}});
      }
      panel.size = place.bytes(place.extents());
      for (const Layer& volume : group.volumes) {
        const Bytes size = place.bytes(place.volumes.at(volume.id.volume));
        if (PieceView* piece = find_piece(volume.id); piece != nullptr && piece->size != size)
          put(*piece, piece->start, size);
      }
    }
  }

  static void finish(PanelView& panel) {
    if (panel.group) line_up(panel);
    Bytes first = panel.size;
    for (const PieceView& piece : panel.pieces) first = std::min(first, piece.start);
    Bytes end = panel.size;
    for (const PieceView& piece : panel.pieces) end = std::max(end, piece.end());
    panel.size = end;
    add_room(panel, panel.group ? Bytes() : first, end);
  }

  static void line_up(PanelView& panel) {
    const auto side_by_side = [](std::vector<PieceView>& pieces) {
      Bytes at{};
      for (PieceView& piece : pieces) {
        piece.start = at;
        at = piece.end();
      }
    };
    side_by_side(panel.devices);
    side_by_side(panel.pieces);
  }

  const Guest& guest_;
  const Plan& plan_;
  const Layout& layout_;
  GuestView view_;
};

}  // namespace

const PanelView* GuestView::panel(const std::string& key) const {
  const auto found = std::find_if(panels.begin(), panels.end(),
                                  [&](const PanelView& each) { return each.key == key; });
  return found == panels.end() ? nullptr : &*found;
}

GuestView view_of(const Guest& guest) {
  GuestView view;
  view.hostname = guest.hostname();
  for (std::size_t i = 0; i < guest.disks().size(); ++i)
    view.panels.push_back(disk_panel(guest, i));
  for (const VolumeGroup& group : guest.groups()) view.panels.push_back(group_panel(guest, group));
  return view;
}

GuestView view_with_states(const Guest& guest) {
  GuestView view = view_of(guest);
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    const auto states =
        disk.added ? std::vector<DiskState>() : states_of(*disk.container, disk.path);
    if (states.size() < 2) continue;
    for (const DiskState& state : states)
      view.panels[i].states.emplace_back(state.level, words_for(state));
  }
  return view;
}

GuestView planned_view(const Guest& guest, const Plan& plan) { return Planned(guest, plan).run(); }

}  // namespace jh
