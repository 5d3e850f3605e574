#include "core/plan/grow_layer.h"

#include <fmt/format.h>

#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_guess.h"

namespace jh {
namespace {

// What stands next behind it, or where others may move, the first that does not.
const Layer* obstacle_behind(const GrowContext& scene, const Layer& layer) {
  if (!layer.partition) return nullptr;
  const PartitionLayout lineup(scene.guest, layer.disk);
  for (const PartitionLayout::Member& member : lineup.members())
    if (member.first >= layer.partition->end() && (!scene.request.allow_move || member.stays))
      return member.layer;
  return nullptr;
}

// The command that lets what stands behind it move, on this disk or a larger one; empty: that
// would not help.
Suggestion command_by_moving(const GrowContext& scene, const Layer& layer) {
  if (scene.request.allow_move || scene.request.running) return {};
  GrowRequest moving = scene.request;
  moving.allow_move = true;
  const std::string give = scene.request.gives.empty() ? scene.guest.best_name(layer) : "";
  const Bytes size = scene.disks[layer.disk].size();
  if (could_grow_by_moves(scene.guest, layer, size)) return command_with(moving, give);
  if (scene.request.by || scene.request.to ||
      !could_grow_by_moves(scene.guest, layer, size + 10_GiB))
    return {};
  moving.by = 10_GiB;
  return command_with(moving, give);
}

[[noreturn]] void refuse_amount(const GrowContext& scene, const Layer& layer, Bytes add,
                                Bytes room) {
  const Disk& disk = scene.guest.disks()[layer.disk];
  const std::string name = scene.guest.best_name(layer);
  const Suggestion moving = command_by_moving(scene, layer);
  const auto or_else = [&](const Advice& other) {
    return moving.empty()
               ? other
               : "let what stands behind it move to the end:\n  " + moving + "\nor " + other;
  };
  if (room != Bytes(0))
    refuse(fmt::format("{} cannot get {}: there are only {}", name, spelled_out(add),
                       spelled_out(room)),
           disk.path,
           or_else("take what there is:\n  " + command_with(scene.request, name + "=rest")));
  std::string why = "there is no room behind it";
  Suggestion larger = command_by_10(scene.request);
  if (!scene.request.running) {
    larger = suggest("grow", {disk.path}).with("by", "10GiB");
    if (scene.request.allow_move) larger.with("allow-move");
    larger.with("give", name);
  }
  Advice next = "make the disk larger:\n  " + larger;
  if (const Layer* obstacle = obstacle_behind(scene, layer)) {
    why = fmt::format("{} ({}) stands {}behind it", scene.guest.name_of(*obstacle),
                      obstacle->content.name, scene.request.allow_move ? "" : "directly ");
    next = or_else("give the room to that one, or to the disk alone (--give nothing)");
    if (scene.request.allow_move) why += ", and does not move: " + why_it_stays(*obstacle);
  }
  throw Error(Status::refused, fmt::format("{} cannot grow: {}", name, why), disk.path, next)
      .with_reason(Reason::no_room);
}

// The end of a partition that was cut off from what is in it.
void put_end_back(GrowContext& scene, LayerTarget& target) {
  const Layer& layer = *target.layer;
  const Disk& disk = scene.guest.disks()[layer.disk];
  const Bytes claim = *layer.content.claims;
  const std::string name = scene.guest.best_name(layer);
  if (target.amount.kind != Amount::Kind::rest)
    refuse(fmt::format("{} first gets back what its content says to have ({})", name,
                       spelled_out(claim)),
           disk.path, "leave out the amount:\n  " + command_with(scene.request, name));
  DiskGrowth& growth = scene.disks[layer.disk];
  if (!layer.partition || claim > growth.reach_in_place(layer) || growth.becomes_larger())
    throw layer.content.blockers.front().with_context(disk.path + ", " +
                                                      scene.guest.name_of(layer));
  const std::uint32_t sector = disk.table->facts().sector_size;
  const Sectors end = layer.partition->first + Sectors(ceil_div(claim.value(), sector));
  const Sectors aligned = disk.table->align_up(end);
  const Bytes wanted = to_bytes(aligned - layer.partition->first, sector);
  growth.promise(layer, wanted <= growth.reach_in_place(layer) ? wanted : claim);
  scene.plan.notes.push_back(
      fmt::format("{} is longer than its partition: only the partition's end is put back; what "
                  "lies behind it is looked at as it is found there",
                  name));
}

}  // namespace

Bytes room_for(const GrowContext& scene, const Layer& layer) {
  const DiskGrowth& disk = scene.disks[layer.disk];
  Bytes reach = disk.reach(layer);
  const Bytes size = content_size(layer);
  // Less than a block at the end is no room.
  if (can_be_resized(layer.content))
    reach = std::max(size, layer.content.filesystem()->usable(reach));
  return reach > size ? reach - size : Bytes(0);
}

void resolve_layer(GrowContext& scene, LayerTarget& target, Bytes shared_room) {
  const Layer& layer = *target.layer;
  if (layer.content.claims) return put_end_back(scene, target);
  if (!layer.content.blockers.empty()) throw layer.content.blockers.front();
  const Disk& disk = scene.guest.disks()[layer.disk];
  const Amount& amount = target.amount;
  const Bytes room = room_for(scene, layer);
  const std::uint64_t unit = disk.table ? disk.table->facts().sector_size : 512;
  Bytes add = room;
  if (amount.kind == Amount::Kind::size) add = amount.size;
  if (amount.kind == Amount::Kind::percent)
    add = Bytes(round_down(part_of(amount, shared_room.value()), unit));
  // What is for others takes what there is: they say what they lack.
  if (target.carries_layers && (add > room || room == Bytes(0))) add = room;
  if (!target.carries_layers && (add > room || room == Bytes(0)))
    refuse_amount(scene, layer, add, room);
  if (add.value() % unit != 0)
    refuse(fmt::format("{} bytes are no whole number of {}-byte sectors", add.value(), unit), {},
           fmt::format("ask for {} or {} bytes", round_down(add.value(), unit),
                       round_up(add.value(), unit)));
  if (amount.kind != Amount::Kind::rest && add == Bytes(0) && !target.carries_layers)
    wrong_usage("an amount of nothing", "use a size greater than zero, a percentage, or rest");
  target.content = content_size(layer) + add;
  DiskGrowth& growth = scene.disks[layer.disk];
  // All of the room, or all of the partition: the filesystem fills it as well as it can.
  const Bytes wanted = amount.kind == Amount::Kind::rest ? growth.reach(layer) : target.content;
  if (wanted > layer.size) growth.promise(layer, wanted);
}

}  // namespace jh
