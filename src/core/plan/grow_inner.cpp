#include "core/plan/grow_inner.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/room.h"

namespace jh {
namespace {

// The most that what is in a layer could have of it.
Bytes usable_by(const Layer& layer, Bytes reach) {
  return can_be_resized(layer.content) ? layer.content.filesystem()->usable(reach) : reach;
}

}  // namespace

const Layer& InnerGrowth::outer_of(const Layer& layer) const {
  const Layer* outer = guest_->find(layer.id.outer());
  ensure(outer != nullptr && outer->table, "a disk with a table is kept there");
  return *outer;
}

void InnerGrowth::add(const Layer& layer, const Amount& amount, const std::string& written) {
  std::size_t pv = 0;
  const bool carries = guest_->group_on(layer, pv) != nullptr;
  for (const InnerTarget& other : targets_)
    if (other.layer == &layer)
      wrong_usage(fmt::format("{} is named twice", written), "name each target once");
  if (carries && amount.kind != Amount::Kind::rest)
    unsupported("a physical volume takes all the room there is", {}, "write --give " + written);
  targets_.push_back({&layer, amount, true, carries, {}, {}});
}

void InnerGrowth::add_below(const Layer& layer, const Amount& amount) {
  const bool known = std::any_of(targets_.begin(), targets_.end(),
                                 [&](const InnerTarget& other) { return other.layer == &layer; });
  if (!known) targets_.push_back({&layer, amount, false, true, {}, {}});
}

std::optional<Amount> InnerGrowth::needs_below(const InnerTarget& target) const {
  if (target.amount.kind != Amount::Kind::size) return Amount{};
  const Layer& layer = *target.layer;
  const Bytes reach = inner_reach(*guest_, layer, outer_of(layer).size);
  const Bytes base = target.carries_group ? layer.size : content_size(layer);
  const Bytes wanted = base + target.amount.size;
  if (usable_by(layer, reach) >= wanted) return std::nullopt;
  // In whole MiB, so that an end that is aligned can stay so.
  const std::uint64_t lacks = (wanted - std::min(wanted, reach)).value();
  return Amount{Amount::Kind::size,
                Bytes(round_up(std::max<std::uint64_t>(lacks, 1), partition_alignment)), 0};
}

void InnerGrowth::check() const {
  for (const InnerTarget& target : targets_) {
    const TableFacts& facts = outer_of(*target.layer).table->facts();
    if (!facts.blockers.empty())
      throw facts.blockers.front().with_context(guest_->name_of(outer_of(*target.layer)));
    if (!target.layer->content.blockers.empty())
      throw target.layer->content.blockers.front().with_context(guest_->name_of(*target.layer));
    // Others of the same disk may claim what lies behind them.
    for (const Layer& other : outer_of(*target.layer).inner)
      if (other.content.claims && !other.content.blockers.empty())
        throw other.content.blockers.front().with_context(guest_->name_of(other));
  }
}

std::size_t InnerGrowth::deepest() const {
  std::size_t deepest = 0;
  for (const InnerTarget& target : targets_) deepest = std::max(deepest, target.layer->storey);
  return deepest;
}

void InnerGrowth::resolve(GrowContext& scene, std::size_t storey) {
  for (InnerTarget& target : targets_)
    if (target.layer->storey == storey) resolve_one(scene, target);
}

void InnerGrowth::resolve_one(GrowContext& scene, InnerTarget& target) const {
  const Layer& layer = *target.layer;
  const Layer& outer = outer_of(layer);
  const std::string name = guest_->best_name(layer);
  const Bytes reach = inner_reach(*guest_, layer, scene.promised(outer));
  const Bytes present = content_size(layer);
  const Bytes most = usable_by(layer, reach);
  const Bytes room = most > present ? most - present : Bytes(0);
  const std::uint32_t sector = outer.table->facts().sector_size;
  Bytes add = room;
  if (target.amount.kind == Amount::Kind::size) add = target.amount.size;
  if (target.amount.kind == Amount::Kind::percent)
    add = Bytes(round_down(part_of(target.amount, room.value()), sector));
  if (target.asked && (add > room || room == Bytes(0))) {
    const std::string what = room == Bytes(0)
                                 ? fmt::format("{} cannot grow: there is no room behind it", name)
                                 : fmt::format("{} cannot get {}: there are only {}", name,
                                               spelled_out(add), spelled_out(room));
    const Error refused(
        Status::refused, what, guest_->name_of(outer),
        room == Bytes(0) ? "make the disk larger:\n  " + command_by_10(scene.request)
                         : "take what there is:\n  " + command_with(scene.request, name + "=rest"));
    throw room == Bytes(0) ? refused.with_reason(Reason::no_room) : refused;
  }
  if (add.value() % sector != 0)
    refuse(fmt::format("{} bytes are no whole number of {}-byte sectors", add.value(), sector), {},
           fmt::format("ask for {} bytes", round_up(add.value(), sector)));
  const bool rest = target.amount.kind == Amount::Kind::rest || target.carries_group;
  target.content = rest ? reach : present + add;
  target.size = std::max(layer.size, rest ? reach : std::min(reach, target.content));
  scene.served[&layer] = target.size;
}

}  // namespace jh
