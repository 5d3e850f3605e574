#include "core/figure/view.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh {
namespace {

constexpr Bytes worth_showing = 2_MiB;  // of room between partitions

PieceKind kind_of(const Layer& layer) {
  switch (layer.content.kind) {
    case ContentKind::filesystem:
      return layer.content.filesystem_kind != nullptr &&
                     !layer.content.filesystem_kind->holds_files &&
                     layer.content.filesystem_kind->resizable
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

PanelView disk_panel(const Guest& guest, std::size_t index) {
  const Disk& disk = guest.disks()[index];
  PanelView panel;
  panel.key = fmt::format("disk {}", index + 1);
  panel.title = disk.path.substr(disk.path.rfind('/') + 1);
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

class Planned {
 public:
  Planned(const Guest& guest, const Plan& plan)
      : guest_(guest), plan_(plan), view_(view_of(guest)) {}

  GuestView run() {
    for (PanelView& panel : view_.panels)
      std::erase_if(panel.pieces,
                    [](const PieceView& piece) { return piece.kind == PieceKind::room; });
    for (std::size_t i = 0; i < plan_.disks.size() && i < guest_.disks().size(); ++i)
      view_.panels[i].size = plan_.disks[i].to;
    for (const Step& step : plan_.steps) apply(step);
    for (PanelView& panel : view_.panels) {
      if (panel.group) line_up(panel);
      Bytes first = panel.size;
      for (const PieceView& piece : panel.pieces) first = std::min(first, piece.start);
      Bytes end = panel.size;
      for (const PieceView& piece : panel.pieces) end = std::max(end, piece.end());
      panel.size = end;
      add_room(panel, panel.group ? Bytes() : first, end);
    }
    return std::move(view_);
  }

 private:
  std::uint32_t sector(const Step& step) const {
    const auto& table = guest_.disks()[step.layer.disk].table;
    return table ? table->facts().sector_size : 512;
  }

  PieceView* piece(const Step& step) {
    const Layer* layer = guest_.find(step.layer);
    if (layer == nullptr) return nullptr;
    const std::string key = guest_.name_of(*layer);
    for (PanelView& panel : view_.panels)
      for (PieceView& each : panel.pieces)
        if (each.key == key) return &each;
    return nullptr;
  }

  void put(PieceView* piece, Bytes start, Bytes end) {
    if (piece == nullptr) return;
    const bool filled = piece->content == piece->size;
    piece->start = start;
    piece->size = end - start;
    if (filled) piece->content = piece->size;
  }

  void apply(const Step& step) {
    PieceView* at = piece(step);
    const auto bytes = [&](Sectors sectors) { return to_bytes(sectors, sector(step)); };
    if (const auto* work = step.as<step::GrowPartition>())
      put(at, at != nullptr ? at->start : Bytes(), bytes(work->end));
    else if (const auto* smaller = step.as<step::ShrinkPartition>())
      put(at, at != nullptr ? at->start : Bytes(), bytes(smaller->end));
    else if (const auto* move = step.as<step::MovePartition>())
      put(at, bytes(move->first), bytes(move->end));
    else if (step.is<step::GrowVolume>() || step.is<step::ShrinkVolume>())
      put(at, at != nullptr ? at->start : Bytes(), at != nullptr ? at->start + step.to : Bytes());
    else if ((step.is<step::GrowContent>() || step.is<step::ShrinkContent>()) && at != nullptr)
      at->content = step.to;
    else if (const auto* fresh = step.as<step::CreatePartition>())
      add_partition(step, fresh->partition);
    else if (step.is<step::GrowPhysicalVolume>() || step.is<step::ShrinkDevice>() ||
             step.is<step::RemoveDevice>())
      resize_device(step);
    else if (const auto* added = step.as<step::AddDevice>())
      add_device(step, added->group);
  }

  void add_partition(const Step& step, const NewPartition& partition) {
    PanelView& panel = view_.panels[step.layer.disk];
    const Bytes start = to_bytes(partition.first, sector(step));
    panel.pieces.push_back({step.name,
                            step.name,
                            "new",
                            PieceKind::device,
                            start,
                            to_bytes(partition.end, sector(step)) - start,
                            {},
                            {}});
  }

  void add_device(const Step& step, const std::string& group) {
    for (PanelView& panel : view_.panels) {
      if (panel.key != "group " + group) continue;
      const std::string name = step.name.substr(step.name.rfind(' ') + 1);
      panel.devices.push_back({name, name, "", PieceKind::device, panel.size, step.to, {}, {}});
      panel.size += step.to;
    }
  }

  // A group is as large as its devices will be.
  void resize_device(const Step& step) {
    const Layer* layer = guest_.find(step.layer);
    if (layer == nullptr) return;
    const std::string key = guest_.name_of(*layer);
    for (PanelView& panel : view_.panels) {
      for (PieceView& device : panel.devices) {
        if (device.key != key) continue;
        panel.size = panel.size - device.size + step.to;
        device.size = step.to;
      }
      std::erase_if(panel.devices, [](const PieceView& each) { return each.size == Bytes(0); });
    }
  }

  static void line_up(PanelView& panel) {
    Bytes at{};
    for (PieceView& device : panel.devices) {
      device.start = at;
      at = device.end();
    }
    at = {};
    for (PieceView& piece : panel.pieces) {
      piece.start = at;
      at = piece.end();
    }
  }

  const Guest& guest_;
  const Plan& plan_;
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

GuestView planned_view(const Guest& guest, const Plan& plan) { return Planned(guest, plan).run(); }

}  // namespace jh
