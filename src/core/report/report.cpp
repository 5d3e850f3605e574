#include "core/report/report.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/words.h"
#include "core/plan/grow_disk.h"
#include "core/plan/room.h"

namespace jh {
namespace {

std::string disk_prefix(const Guest& guest, std::size_t index) {
  return guest.disks().size() == 1 ? std::string{} : fmt::format("{}:", index + 1);
}

// What gives a layer room: of its own disk, or of one that becomes 10 GiB larger.
Suggestion growth_of(const Guest& guest, const std::string& target, bool larger = false) {
  Suggestion command = suggest("grow");
  if (guest.is_running())
    command.with("live");
  else
    command.images = guest.image_paths();
  if (larger) command.with("by", "10GiB");
  return command.with("give", target);
}

// The same, by letting what stands behind it move.
Suggestion growth_by_moving(const Guest& guest, const Layer& layer, bool larger) {
  Suggestion command = growth_of(guest, guest.best_name(layer), larger);
  command.options.insert(command.options.end() - 1, {"allow-move", {}});
  return command;
}

// What stands behind a partition; null: nothing.
const Layer* neighbour(const Guest& guest, const Layer& layer) {
  const Disk& disk = guest.disks()[layer.disk];
  const Layer* next = nullptr;
  for (const Layer& other : disk.layers) {
    if (!other.partition || other.partition->first < layer.partition->end()) continue;
    if (next == nullptr || other.offset < next->offset) next = &other;
  }
  return next;
}

// Of a partition that another stands behind.
SurveyAdvice advise_blocked(const Guest& guest, const Layer& layer, const Layer& behind) {
  const std::string name = guest.best_name(layer);
  const bool rescue = behind.partition->purpose == PartitionPurpose::rescue;
  const std::string what =
      fmt::format("{} cannot grow in place: {} ({}) stands behind it", name, guest.name_of(behind),
                  rescue ? "the rescue partition" : behind.content.name);
  const Bytes size = guest.disks()[layer.disk].size();
  if (!layer.content.blockers.empty() || guest.is_running()) return {what};
  const std::string moving = what + "; with --allow-move it moves to the end";
  if (could_grow_by_moves(guest, layer, size))
    return {moving, growth_by_moving(guest, layer, false)};
  if (could_grow_by_moves(guest, layer, size + 10_GiB))
    return {moving, growth_by_moving(guest, layer, true)};
  return {what};
}

// A new image instead of one that cannot be changed in place.
SurveyAdvice way_around(const Disk& disk, const Error& blocker) {
  std::string what;
  for (const Advice::Part& part : blocker.next().parts()) {
    const auto* text = std::get_if<std::string>(&part);
    if (text == nullptr) break;
    what += *text;
  }
  return {what.substr(0, what.find('\n')), suggest("recast", {disk.path, "NEW"})};
}

void add_content_row(const Guest& guest, const Layer& layer, std::vector<LayerSize>& rows) {
  if (!layer.content.size) return;
  std::optional<Bytes> free;
  if (layer.content.used) free = *layer.content.size - *layer.content.used;
  rows.push_back({fmt::format("{} on {}", layer.content.name, guest.name_of(layer)),
                  describe_place(guest, layer), *layer.content.size, free});
}

// What keeps a place from being changed, and what its journal holds.
void advise_state(const Guest& guest, const Layer& layer, std::vector<SurveyAdvice>& advice) {
  if (layer.content.replay() && layer.content.blockers.empty())
    advice.push_back(
        {fmt::format("{} was not cleanly unmounted; shown is what its journal makes "
                     "of it ({}); a change replays it first",
                     guest.best_name(layer), layer.content.replay()->found)});
  if (can_get_end_back(guest, layer)) {
    advice.push_back(
        {fmt::format("{} is longer than its place: {} instead of {}; to put the end "
                     "of its place back",
                     guest.name_of(layer), human(*layer.content.claims), human(layer.size)),
         growth_of(guest, guest.name_of(layer))});
    return;
  }
  for (const Error& blocker : layer.content.blockers)
    advice.push_back({fmt::format("{}: {}", guest.name_of(layer), blocker.what()), blocker.next()});
}

// Room a group has, room its devices could take, and the commands that hand it on.
void advise_group(const Guest& guest, const VolumeGroup& group, std::vector<SurveyAdvice>& advice) {
  const lvm::Group& facts = group.open.group;
  for (const Error& blocker : group.open.blockers())
    advice.push_back({blocker.what(), blocker.next()});
  for (const std::string& note : group.open.notes) advice.push_back({note});
  if (!group.open.blockers().empty()) return;
  Bytes behind{};
  for (const Layer* device : group.devices)
    behind = behind + room_of(guest, *device, guest.disks()[device->disk].size());
  const Bytes free = group.bytes(facts.free_extents());
  std::string where =
      fmt::format("group {} has {} free", facts.name, free == Bytes(0) ? "nothing" : human(free));
  if (behind != Bytes(0))
    where += fmt::format(", and {} of room behind its physical volumes", human(behind));
  const bool ready = free != Bytes(0) || behind != Bytes(0);
  const std::size_t title = advice.size();
  advice.push_back({where + (ready ? "; to hand it on:" : "; to give 10 GiB more to:")});
  for (const Layer& layer : group.volumes) {
    advise_state(guest, layer, advice);
    if (!can_be_resized(layer.content) || !layer.content.blockers.empty() ||
        !guest.volume_of(layer).used_by.empty())
      continue;
    if (ready && behind == Bytes(0) && room_in_group(guest, layer) == Bytes(0)) continue;
    if (!ready && guest.is_running()) continue;
    advice.push_back({"", growth_of(guest, guest.best_name(layer), !ready)});
  }
  if (std::none_of(advice.begin() + static_cast<std::ptrdiff_t>(title), advice.end(),
                   [](const SurveyAdvice& each) { return !each.next.empty(); }))
    advice[title].what = where;
}

}  // namespace

std::string describe_place(const Guest&, const Layer& layer) {
  std::string text;
  for (const std::string& point : layer.mount_points) text += (text.empty() ? "" : ", ") + point;
  const bool device = layer.content.kind == ContentKind::physical_volume;
  if (text.empty() && !layer.content.label.empty())
    text = (device ? "of group " : "label ") + layer.content.label;
  return text;
}

const char* status_word(Status status) {
  return word_of<Status::unsupported>(status, "internal error", "internal error", "wrong usage",
                                      "refused", "damage found", "input or output failed",
                                      "not supported");
}

std::string count_text(const Evidence& evidence) {
  if (evidence.unit == "bytes") return human(Bytes(evidence.count));
  return grouped(evidence.count) + (evidence.unit.empty() ? "" : " " + evidence.unit);
}

std::vector<LayerSize> layer_sizes(const Guest& guest) {
  std::vector<LayerSize> rows;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    const std::string prefix = disk_prefix(guest, i);
    const ContainerFacts facts = disk.container->facts();
    if (disk.added) continue;  // it is not there yet
    if (!guest.is_running())
      rows.push_back(
          {prefix + "image", format_name(facts.format), facts.file_length, std::nullopt});
    rows.push_back({prefix + "disk", guest.is_running() ? disk.path : "as the guest sees it",
                    facts.disk_size, std::nullopt});
    if (disk.table) {
      const TableFacts& table = disk.table->facts();
      rows.push_back({prefix + kind_name(table.kind), "usable up to",
                      to_bytes(table.known_end, table.sector_size), std::nullopt});
    }
    for (const Layer& layer : disk.layers) {
      for_each_layer(layer, [&](const Layer& each) {
        if (each.partition)
          rows.push_back({guest.name_of(each), each.partition->type_name, each.size, std::nullopt});
        add_content_row(guest, each, rows);
      });
    }
  }
  for (const VolumeGroup& group : guest.groups()) {
    const lvm::Group& facts = group.open.group;
    rows.push_back({"group " + facts.name,
                    fmt::format("extents of {}", human(Bytes(facts.extent_size))),
                    group.bytes(facts.total_extents()), group.bytes(facts.free_extents())});
    for (const Layer& layer : group.volumes) {
      for_each_layer(layer, [&](const Layer& each) {
        rows.push_back({guest.name_of(each),
                        each.volume ? guest.volume_of(each).kind
                                    : (each.partition ? each.partition->type_name : "payload"),
                        each.size, std::nullopt});
        add_content_row(guest, each, rows);
      });
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
    // What the change has made comes from nothing.
    changes.push_back(
        {now.name, now.detail, old == before.end() ? Bytes(0) : old->size, now.size, now.free});
  }
  return changes;
}

std::vector<SurveyAdvice> advice_for(const Guest& guest) {
  std::vector<SurveyAdvice> advice;
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    for (const Error& blocker : disk.container->facts().blockers) {
      advice.push_back({std::string("not to be changed in place: ") + blocker.what()});
      advice.push_back(way_around(disk, blocker));
    }
    if (disk.trouble) advice.push_back({disk.trouble->what()});
    if (const std::string held = guest.held_as_a_whole(i); !held.empty()) {
      advice.push_back({held + "; it is changed by the device that is built of it"});
      continue;
    }
    if (disk.table) {
      for (const std::string& repair : disk.table->facts().repairs)
        advice.push_back({repair + "; the next change puts it right"});
      for (const Error& blocker : disk.table->facts().blockers)
        advice.push_back({std::string(blocker.what()) + "; the table will not be changed"});
      const Bytes known = to_bytes(disk.table->facts().known_end, disk.table->facts().sector_size);
      if (disk.table->must_move_spare() && disk.size() > known)
        advice.push_back(
            {fmt::format("the disk is {} larger than its GPT knows; growing moves the "
                         "backup copy to the end",
                         human(disk.size() - known))});
    }
    std::vector<const Layer*> with_room;
    for (const Layer& layer : disk.layers) {
      advise_state(guest, layer, advice);
      if (layer.is_set_aside || layer.content.claims) continue;
      std::size_t pv = 0;
      if (guest.group_on(layer, pv) != nullptr) continue;  // its group says what it could take
      if (room_of(guest, layer, disk.size()) != Bytes(0)) with_room.push_back(&layer);
    }
    for (const Layer* layer : with_room)
      advice.push_back(
          {fmt::format("{} of room lies ready for {}", human(room_of(guest, *layer, disk.size())),
                       guest.best_name(*layer)),
           growth_of(guest, guest.best_name(*layer))});
    if (!disk.container->facts().blockers.empty()) continue;
    for (const Layer& layer : disk.layers) {
      if (!layer.content.is_usual_target() || layer.is_set_aside) continue;
      const Layer* behind = layer.partition ? neighbour(guest, layer) : nullptr;
      const bool others_have = !with_room.empty();
      if (others_have && (behind == nullptr || !could_grow_by_moves(guest, layer, disk.size())))
        continue;
      if (behind != nullptr) {
        advice.push_back(advise_blocked(guest, layer, *behind));
      } else if (layer.content.blockers.empty() && !guest.is_running() &&
                 !disk.container->disk().has_fixed_size()) {
        advice.push_back({fmt::format("to give {} another 10 GiB", guest.best_name(layer)),
                          growth_of(guest, guest.best_name(layer), true)});
      }
    }
  }
  for (const VolumeGroup& group : guest.groups())
    if (!Guest::lies_deeper(group)) advise_group(guest, group, advice);
  if (guest.asleep().empty()) return advice;
  // Nothing that would be refused is advised.
  for (SurveyAdvice& each : advice)
    if (each.next.command() != nullptr && each.next.command()->command == "grow") each.next = {};
  std::vector<SurveyAdvice> first;
  for (const Error& sleeper : guest.asleep()) first.push_back({sleeper.what(), sleeper.next()});
  first.insert(first.end(), advice.begin(), advice.end());
  return first;
}

}  // namespace jh
