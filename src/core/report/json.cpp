#include <nlohmann/json.hpp>

#include "core/container/states.h"
#include "core/plan/floors.h"
#include "core/plan/room.h"
#include "core/report/report.h"

namespace jh {

using nlohmann::json;

namespace {

// A suggested command as data, so that a program can offer it in its own way.
json suggestion_json(const Suggestion& command) {
  json options = json::array();
  for (const Suggestion::Option& option : command.options) {
    json row{{"name", option.name}};
    if (option.value) row["value"] = *option.value;
    options.push_back(std::move(row));
  }
  return {{"command", command.command},
          {"images", command.images},
          {"options", options},
          {"reason", command.reason}};
}

json place_json(const CommandText& typed, const Guest& guest, Floors& floors, const Layer& layer) {
  json out{{"name", guest.name_of(layer)},
           {"offset", layer.offset.value()},
           {"size", layer.size.value()},
           {"room", room_of(guest, layer, guest.disks()[layer.disk].size()).value()},
           {"mount_points", layer.mount_points}};
  if (layer.partition)
    out["partition"] = {{"number", layer.partition->number},
                        {"first_sector", layer.partition->first.value()},
                        {"sectors", layer.partition->count.value()},
                        {"type", layer.partition->type_code},
                        {"type_name", layer.partition->type_name},
                        {"label", layer.partition->label},
                        {"uuid", layer.partition->part_uuid}};
  json content{{"name", layer.content.name},
               {"label", layer.content.label},
               {"uuid", layer.content.uuid},
               {"state", layer.content.state},
               {"blockers", json::array()}};
  const LayerFloor floor = floors.of(layer);
  out["floor"] = {{"size", floor.size.value()}, {"reason", floor.reason}};
  if (layer.content.size) content["size"] = layer.content.size->value();
  if (layer.content.used) content["used"] = layer.content.used->value();
  for (const Error& blocker : layer.content.blockers)
    content["blockers"].push_back(error_brief(blocker, typed));
  for (const auto& [name, value] : layer.content.header().details) content["details"][name] = value;
  out["content"] = std::move(content);
  for (const Layer& inner : layer.inner)
    out["inner"].push_back(place_json(typed, guest, floors, inner));
  return out;
}

json group_json(const CommandText& typed, const Guest& guest, Floors& floors,
                const VolumeGroup& group) {
  const lvm::Group& facts = group.open.group;
  json devices = json::array();
  for (std::size_t pv = 0; pv < facts.pvs.size(); ++pv) {
    devices.push_back(
        {{"name", facts.pvs[pv].name},
         {"id", lvm::id_with_hyphens(facts.pvs[pv].id)},
         {"place", group.devices[pv] ? json(guest.name_of(*group.devices[pv])) : json()},
         {"extents", facts.pvs[pv].extents},
         {"free_extents", facts.free_on(pv)}});
  }
  json volumes = json::array();
  for (const Layer& layer : group.volumes) {
    const lvm::Volume& volume = guest.volume_of(layer);
    json row = place_json(typed, guest, floors, layer);
    row.erase("offset");
    row["kind"] = volume.kind;
    row["extents"] = volume.extents;
    row["segments"] = json::array();
    for (const lvm::Segment& segment : volume.segments) {
      json stripes = json::array();
      for (const lvm::Stripe& stripe : segment.stripes)
        stripes.push_back({{"device", facts.pvs[stripe.pv].name}, {"extent", stripe.extent}});
      row["segments"].push_back({{"start", segment.start},
                                 {"extents", segment.count},
                                 {"type", segment.type},
                                 {"stripes", stripes}});
    }
    volumes.push_back(std::move(row));
  }
  json blockers = json::array();
  for (const Error& blocker : group.open.blockers())
    blockers.push_back(error_brief(blocker, typed));
  return {{"name", facts.name},
          {"id", lvm::id_with_hyphens(facts.id)},
          {"sequence", facts.sequence},
          {"extent_size", facts.extent_size},
          {"extents", facts.total_extents()},
          {"free_extents", facts.free_extents()},
          {"physical_volumes", devices},
          {"volumes", volumes},
          {"notes", group.open.notes},
          {"blockers", blockers}};
}

json disk_json(const CommandText& typed, const Guest& guest, Floors& floors, std::size_t index) {
  const Disk& disk = guest.disks()[index];
  const ContainerFacts facts = disk.container->facts();
  const LayerFloor floor = floors.of_disk(index);
  json out{{"image", disk.path},
           {"form", format_name(facts.format)},
           {"file_length", facts.file_length.value()},
           {"disk_size", facts.disk_size.value()},
           {"floor", {{"size", floor.size.value()}, {"reason", floor.reason}}},
           {"variant", facts.variant},
           {"store", allocation_name(facts.allocation)},
           {"block_size", facts.block_size.value()},
           {"blocks", facts.blocks},
           {"blocks_kept", disk.container->blocks_kept()},
           {"limit", facts.limit},
           {"identity", facts.identity},
           {"encrypted", facts.encrypted},
           {"parents", facts.parents},
           {"parts", facts.parts},
           {"snapshots", json::array()},
           {"states", json::array()},
           {"unsettled", facts.pending_repairs},
           {"blockers", json::array()},
           {"notes", facts.notes},
           {"places", json::array()}};
  const std::vector<DiskState> states = states_of(*disk.container, disk.path);
  for (std::size_t number = 0; number < facts.snapshots.size(); ++number) {
    const Snapshot& snapshot = facts.snapshots[number];
    json row{{"id", snapshot.id},
             {"name", snapshot.name},
             {"made_at", snapshot.made_at},
             {"disk_size", snapshot.disk_size.value_or(facts.disk_size).value()},
             {"state_size", snapshot.state_size.value()}};
    // They are the last of all states.
    const DiskState& state = states[states.size() - facts.snapshots.size() + number];
    if (state.alone) row["kept_alone"] = *state.alone;
    out["snapshots"].push_back(std::move(row));
  }
  for (const DiskState& state : states) {
    constexpr std::array kinds{"parent", "active", "snapshot"};
    json row{{"kind", kinds.at(static_cast<std::size_t>(state.kind))},
             {"level", state.level},
             {"name", state.name},
             {"disk_size", state.disk_size.value()},
             {"memory", state.memory.value()}};
    if (state.kind == DiskState::Kind::snapshot) row["made_at"] = state.made_at;
    if (state.alone) row["alone"] = *state.alone;
    out["states"].push_back(std::move(row));
  }
  for (const Error& blocker : facts.blockers)
    out["blockers"].push_back(error_brief(blocker, typed));
  if (disk.trouble) out["trouble"] = error_brief(*disk.trouble, typed);
  if (disk.table) {
    const TableFacts& table = disk.table->facts();
    json blockers = json::array();
    for (const Error& blocker : table.blockers) blockers.push_back(error_brief(blocker, typed));
    out["table"] = {{"kind", kind_name(table.kind)},
                    {"sector_size", table.sector_size},
                    {"id", table.id},
                    {"first_usable_sector", table.first_usable.value()},
                    {"known_end_sector", table.known_end.value()},
                    {"usable_end_sector", table.usable_end.value()},
                    {"spare_copy_must_move", disk.table->must_move_spare()},
                    {"repairs", table.repairs},
                    {"notes", table.notes},
                    {"blockers", blockers}};
  }
  for (const Layer& layer : disk.layers)
    out["places"].push_back(place_json(typed, guest, floors, layer));
  return out;
}

}  // namespace

json error_brief(const Error& error, const CommandText& typed) {
  json out{{"what", error.what()}, {"where", error.where()}, {"next", error.next().text(typed)}};
  for (const Advice::Part& part : error.next().parts())
    if (const auto* command = std::get_if<Suggestion>(&part))
      out["commands"].push_back(suggestion_json(*command));
  return out;
}

json survey_json(const Guest& guest, const CommandText& typed) {
  Floors floors(guest);
  json disks = json::array();
  for (std::size_t i = 0; i < guest.disks().size(); ++i)
    disks.push_back(disk_json(typed, guest, floors, i));
  json advice = json::array();
  for (const SurveyAdvice& item : advice_for(guest))
    advice.push_back({{"what", item.what}, {"command", item.next.text(typed)}});
  json groups = json::array();
  for (const VolumeGroup& group : guest.groups())
    groups.push_back(group_json(typed, guest, floors, group));
  json asleep = json::array();
  for (const Error& sleeper : guest.asleep()) asleep.push_back(error_brief(sleeper, typed));
  return {{"hostname", guest.hostname()},
          {"asleep", asleep},
          {"disks", disks},
          {"groups", groups},
          {"advice", advice}};
}

json plan_json(const Plan& plan) {
  json disks = json::array();
  for (const DiskChange& disk : plan.disks)
    disks.push_back({{"image", disk.path},
                     {"from", disk.from.value()},
                     {"to", disk.to.value()},
                     {"difference", static_cast<std::int64_t>(disk.to.value()) -
                                        static_cast<std::int64_t>(disk.from.value())}});
  json steps = json::array();
  for (const Step& step : plan.steps)
    steps.push_back({{"disk", step.layer.disk + 1},
                     {"layer", step.name},
                     {"action", step.action},
                     {"from", step.from.value()},
                     {"to", step.to.value()}});
  return {{"disks", disks},          {"target", plan.target},
          {"steps", steps},          {"notes", plan.notes},
          {"remains", plan.remains}, {"bytes_to_write_at_most", plan.bytes_to_write}};
}

json changes_json(const std::vector<LayerChange>& changes) {
  json rows = json::array();
  for (const LayerChange& change : changes) {
    json row{{"layer", change.name},
             {"detail", change.detail},
             {"before", change.before.value()},
             {"after", change.after.value()}};
    if (change.free_after) row["free_after"] = change.free_after->value();
    rows.push_back(std::move(row));
  }
  return rows;
}

json findings_json(const Findings& findings) {
  json rows = json::array();
  for (const Finding& finding : findings.kept())
    rows.push_back({{"where", finding.where}, {"what", finding.what}});
  return {{"count", findings.count()}, {"findings", rows}};
}

json error_json(const Error& error, const CommandText& typed) {
  json out = error_brief(error, typed);
  out["status"] = static_cast<int>(error.status());
  out["nothing_changed"] = error.outcome() == Outcome::unchanged;
  out["change_done"] = error.outcome() == Outcome::done;
  return out;
}

}  // namespace jh
