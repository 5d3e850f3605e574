#include "core/report/report.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh {
namespace {

std::string disk_prefix(const Guest& guest, std::size_t index) {
  return guest.disks().size() == 1 ? std::string{} : fmt::format("{}:", index + 1);
}

std::string images_of(const Guest& guest) {
  std::string words;
  for (const Disk& disk : guest.disks()) words += " " + shell_word(disk.path);
  return words;
}

// What stands behind a partition, in words.
std::string neighbour(const Guest& guest, const Place& place) {
  const Disk& disk = guest.disks()[place.disk];
  const Place* next = nullptr;
  for (const Place& other : disk.places) {
    if (!other.partition || other.partition->first < place.partition->end()) continue;
    if (next == nullptr || other.offset < next->offset) next = &other;
  }
  return next == nullptr ? std::string{}
                         : fmt::format("{} ({})", guest.name_of(*next), next->content.name);
}

}  // namespace

std::string describe_place(const Guest&, const Place& place) {
  std::string text;
  for (const std::string& point : place.mount_points) text += (text.empty() ? "" : ", ") + point;
  if (text.empty() && !place.content.label.empty()) text = "label " + place.content.label;
  return text;
}

std::vector<LayerSize> layer_sizes(const Guest& guest) {
  std::vector<LayerSize> rows;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    const std::string prefix = disk_prefix(guest, i);
    const ContainerFacts facts = disk.container->facts();
    rows.push_back({prefix + "image", facts.form, facts.file_length, std::nullopt});
    rows.push_back({prefix + "disk", "as the guest sees it", facts.disk_size, std::nullopt});
    if (disk.table) {
      const TableFacts& table = disk.table->facts();
      rows.push_back({prefix + kind_name(table.kind), "usable up to",
                      to_bytes(table.known_end, table.sector_size), std::nullopt});
    }
    for (const Place& place : disk.places) {
      const std::string name = guest.name_of(place);
      if (place.partition)
        rows.push_back({name, place.partition->type_name, place.size, std::nullopt});
      if (!place.content.size) continue;
      std::optional<Bytes> free;
      if (place.content.used) free = *place.content.size - *place.content.used;
      rows.push_back({fmt::format("{} on {}", place.content.name, name),
                      describe_place(guest, place), *place.content.size, free});
    }
  }
  return rows;
}

std::vector<LayerChange> compare_layers(const std::vector<LayerSize>& before,
                                        const std::vector<LayerSize>& after) {
  std::vector<LayerChange> changes;
  for (const LayerSize& now : after) {
    const auto old = std::find_if(before.begin(), before.end(),
                                  [&](const LayerSize& row) { return row.name == now.name; });
    if (old != before.end())
      changes.push_back({now.name, now.detail, old->size, now.size, now.free});
  }
  return changes;
}

std::vector<Advice> advice_for(const Guest& guest) {
  std::vector<Advice> advice;
  const std::string images = images_of(guest);
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    if (disk.trouble) advice.push_back({disk.trouble->what(), ""});
    if (disk.table) {
      for (const std::string& repair : disk.table->facts().repairs)
        advice.push_back({repair + "; the next change puts it right", ""});
      for (const Error& blocker : disk.table->facts().blockers)
        advice.push_back({std::string(blocker.what()) + "; the table will not be changed", ""});
      if (disk.table->must_move_spare())
        advice.push_back(
            {fmt::format("the disk is {} larger than its GPT knows; growing moves the "
                         "spare copy to the end",
                         human(disk.size() - to_bytes(disk.table->facts().known_end,
                                                      disk.table->facts().sector_size))),
             ""});
    }
    std::vector<const Place*> with_room;
    for (const Place& place : disk.places) {
      if (place.content.rest && place.content.blockers.empty())
        advice.push_back(
            {fmt::format("{} was not cleanly unmounted; shown is what its journal makes "
                         "of it ({}); a change replays it first",
                         guest.best_name(place), place.content.rest->text()),
             ""});
      for (const Error& blocker : place.content.blockers)
        advice.push_back(
            {fmt::format("{}: {}", guest.name_of(place), blocker.what()), blocker.next()});
      if (room_of(guest, place, disk.size()) != Bytes(0)) with_room.push_back(&place);
    }
    for (const Place* place : with_room)
      advice.push_back(
          {fmt::format("{} of room lies ready for {}", human(room_of(guest, *place, disk.size())),
                       guest.best_name(*place)),
           "juneheath grow" + images + " --give " + shell_word(guest.best_name(*place))});
    for (const Place& place : disk.places) {
      if (place.content.kind != ContentKind::ext || !with_room.empty()) continue;
      const std::string behind = place.partition ? neighbour(guest, place) : std::string{};
      if (!behind.empty()) {
        advice.push_back({fmt::format("{} cannot grow in place: {} stands behind it",
                                      guest.best_name(place), behind),
                          ""});
      } else if (place.content.blockers.empty()) {
        advice.push_back({fmt::format("to give {} another 10 GiB", guest.best_name(place)),
                          "juneheath grow" + images + " --by 10GiB --give " +
                              shell_word(guest.best_name(place))});
      }
    }
  }
  return advice;
}

}  // namespace jh
