#include "core/plan/grow.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/guest/target.h"
#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_guess.h"
#include "core/plan/grow_inner.h"
#include "core/plan/grow_layer.h"
#include "core/plan/grow_steps.h"

namespace jh {
namespace {

// Every byte that the guest would see; what is kept nowhere is zero.
bool is_blank(const Disk& disk) {
  const std::uint64_t size = disk.size().value();
  for (std::uint64_t at = 0; at < size;) {
    const Extent extent = disk.container->extent_at(at, size - at);
    if (extent.kind != Extent::Kind::zero &&
        !range_is_zero(disk.container->disk(), at, extent.length))
      return false;
    at += extent.length;
  }
  return true;
}

class Planner {
 public:
  Planner(const Guest& guest, const GrowRequest& request)
      : guest_(guest), request_(request), scene_{guest, request, plan_, {}} {}

  Plan run() {
    check_awake(guest_);
    for (const Disk& disk : guest_.disks())
      plan_.disks.push_back({disk.path, disk.added ? Bytes(0) : disk.size(), disk.size()});
    find_targets();
    find_blank_disks();
    check_targets();
    resolve_sizes();
    hand_out();
    add_growth_steps(scene_, layers_, groups_, inner_);
    drop_lone_repairs();
    if (plan_.steps.empty()) refuse_nothing_to_do();
    plan_.resolve(layout_of(guest_));
    // Held bytes go to the ledger twice (old and new) and to the image once.
    plan_.bytes_to_write = plan_.bytes_to_write * 3 + (1U << 20);
    plan_.of_content *= 3;
    return plan_;
  }

 private:
  void find_targets() {
    for (const Give& give : request_.gives) {
      const Layer* layer = find_target(guest_, give.target);
      if (layer == nullptr) {
        if (give.amount.kind != Amount::Kind::rest)
          wrong_usage("\"nothing\" takes no amount", "write --give nothing");
        if (request_.gives.size() > 1)
          wrong_usage("\"nothing\" goes with no other target", "leave it out");
        continue;
      }
      add_target(*layer, give.amount, give.target);
    }
    if (request_.gives.empty()) {
      const Layer& layer = only_target(guest_, request_, new_size());
      add_target(layer, {}, guest_.best_name(layer));
    }
    scene_.alone = layers_.size() + groups_.size() + inner_.targets().size() == 1;
    if (request_.new_partition || !request_.add_disks.empty() || !request_.blank_disks.empty())
      for (const GroupGrowth& growth : groups_)
        if (Guest::lies_deeper(growth.group()))
          unsupported(fmt::format("group {} stands on a volume of another one: new partitions and "
                                  "disks are made for that",
                                  growth.group().open.group.name),
                      {}, "name a volume of the group that stands on the disks");
    add_what_lies_below();
    if (!request_.new_partition && request_.add_disks.empty() && request_.blank_disks.empty())
      return;
    if (groups_.empty())
      unsupported("new partitions and disks are made for a volume group only", {},
                  "give the room to a volume of the group: " + command_with(request_, "TARGET"));
    if (groups_.size() > 1)
      unsupported("the targets lie in several groups, and a new partition or disk is for one", {},
                  "name volumes of one group only, or take two commands");
  }

  // What stands on volumes of others, or on a disk that is kept in a layer, gets its room through
  // them.
  void add_what_lies_below() {
    // From the top: what stands between needs what it hands on, too.
    for (std::size_t storey = deepest_storey(); storey > 0; --storey) {
      for (std::size_t i = 0; i < groups_.size(); ++i)
        if (groups_[i].storey() == storey)
          for (const auto& [layer, amount] : groups_[i].needs_below()) add_below(*layer, amount);
      for (std::size_t i = 0; i < inner_.targets().size(); ++i) {
        const InnerTarget target = inner_.targets()[i];
        if (target.layer->storey != storey) continue;
        if (const auto amount = inner_.needs_below(target))
          add_below(*guest_.find(target.layer->id.outer()), *amount);
      }
    }
    // What stands below is served first.
    std::stable_sort(
        groups_.begin(), groups_.end(),
        [](const GroupGrowth& a, const GroupGrowth& b) { return a.storey() < b.storey(); });
  }

  void add_below(const Layer& layer, const Amount& amount) {
    if (layer.volume) {
      growth_of(guest_.group_of(layer)).add_below(layer, amount);
    } else if (layer.is_inner()) {
      inner_.add_below(layer, amount);
    } else {
      const bool known = std::any_of(layers_.begin(), layers_.end(), [&](const LayerTarget& other) {
        return other.layer == &layer;
      });
      if (!known) layers_.push_back({&layer, amount, Bytes(0), /*carries_layers=*/true});
    }
  }

  std::size_t deepest_storey() const {
    std::size_t deepest = inner_.deepest();
    for (const GroupGrowth& growth : groups_) deepest = std::max(deepest, growth.storey());
    return deepest;
  }

  GroupGrowth& growth_of(const VolumeGroup& group) {
    auto known = std::find_if(groups_.begin(), groups_.end(),
                              [&](const GroupGrowth& growth) { return &growth.group() == &group; });
    if (known == groups_.end()) {
      groups_.emplace_back(guest_, static_cast<std::size_t>(&group - guest_.groups().data()));
      known = groups_.end() - 1;
    }
    return *known;
  }

  // Whole disks of zeros that are named: the hypervisor made them, and the group is to have them.
  void find_blank_disks() {
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      const Disk& disk = guest_.disks()[i];
      const bool asked = std::find(request_.blank_disks.begin(), request_.blank_disks.end(),
                                   disk.path) != request_.blank_disks.end();
      const bool looks_blank = !request_.running && !disk.added && !disk.table && !disk.trouble &&
                               guest_.disks().size() > 1 && disk.layers.size() == 1 &&
                               disk.layers.front().content.kind == ContentKind::nothing;
      if (!looks_blank || !is_blank(disk)) {
        if (asked)
          refuse("the disk is not blank, and what is on it would be lost", disk.path,
                 "name a blank disk, or a file that does not exist, with its size: --add-disk "
                 "FILE=SIZE");
        continue;
      }
      if (groups_.size() == 1) {
        scene_.blank.push_back(i);
        continue;
      }
      if (asked)
        unsupported("new disks are made a part of a volume group only", disk.path,
                    "give the room to a volume of the group");
      plan_.notes.push_back(fmt::format(
          "{} is blank, and left alone: only a volume group could use it", disk_name(guest_, i)));
    }
  }

  void add_target(const Layer& layer, const Amount& amount, const std::string& written) {
    std::size_t pv = 0;
    const VolumeGroup* group = layer.volume ? &guest_.group_of(layer) : guest_.group_on(layer, pv);
    // A physical volume that lost its end gets that back first, as anything else does.
    if (layer.content.claims && layer.partition) group = nullptr;
    if (layer.is_inner()) {
      if (group != nullptr) growth_of(*group).add_device(layer, amount, written);
      inner_.add(layer, amount, written);
      return;
    }
    if (group == nullptr) {
      for (const LayerTarget& other : layers_)
        if (other.layer == &layer)
          wrong_usage(fmt::format("{} is named twice", written), "name each target once");
      layers_.push_back({&layer, amount, Bytes(0), false});
      return;
    }
    if (const VolumeGroup* carried = guest_.group_on(layer, pv); layer.volume && carried != nullptr)
      growth_of(*carried).add_device(layer, Amount{}, written);
    if (layer.volume)
      growth_of(*group).add_volume(layer, amount, written);
    else
      growth_of(*group).add_device(layer, amount, written);
  }

  void check_targets() const {
    for (const GroupGrowth& growth : groups_) growth.check();
    inner_.check();
    for (const LayerTarget& target : layers_) check_table(guest_.disks()[target.layer->disk]);
    // What others claim behind their places is no room.
    for (const GroupGrowth& growth : groups_)
      for (const Layer* device : growth.group().devices)
        if (device != nullptr) check_claims(guest_, device->disk);
    for (const LayerTarget& target : layers_)
      check_claims(guest_, target.layer->disk, target.layer);
  }

  // Of the disk that is named, or of the first one.
  Bytes new_size() const {
    const Disk& disk = guest_.disks()[request_.disk];
    Plan unused;
    if (request_.disk_chosen || request_.images.size() == 1)
      return resolve_size(unused, request_, disk);
    return request_.to ? std::max(*request_.to, disk.size())
                       : disk.size() + request_.by.value_or(Bytes(0));
  }

  void resolve_sizes() {
    for (std::size_t i = 0; i < guest_.disks().size(); ++i)
      scene_.disks.emplace_back(guest_, i, guest_.disks()[i].size(), request_.allow_move);
    if (!request_.to && !request_.by) {
      if (!groups_.empty() || !layers_.empty() || !inner_.empty()) {
        check_chosen();
        return;
      }
      scene_.resized = request_.disk;
      return;
    }
    const std::size_t index = disk_to_resize();
    scene_.resized = index;
    const Disk& disk = guest_.disks()[index];
    check_table(disk);
    plan_.disks[index].to = resolve_size(plan_, request_, disk);
    scene_.disks[index] = DiskGrowth(guest_, index, plan_.disks[index].to, request_.allow_move);
  }

  bool has_target_on(std::size_t disk) const {
    return std::any_of(layers_.begin(), layers_.end(),
                       [&](const LayerTarget& target) { return target.layer->disk == disk; });
  }

  void check_chosen() const {
    if (!request_.disk_chosen || !groups_.empty() || layers_.empty() ||
        has_target_on(request_.disk))
      return;
    refuse("the target is not on the disk that is to become larger",
           guest_.disks()[request_.disk].path,
           fmt::format("add --disk {}", layers_.front().layer->disk + 1));
  }

  std::size_t disk_to_resize() const {
    if (request_.disk_chosen || request_.images.size() == 1) {
      if (!layers_.empty()) check_chosen();
      return request_.disk;
    }
    if (layers_.empty() && groups_.empty()) return request_.disk;
    if (groups_.empty() && std::all_of(layers_.begin(), layers_.end(), [&](const auto& target) {
          return target.layer->disk == layers_.front().layer->disk;
        }))
      return layers_.front().layer->disk;
    // Those of which a target could use a larger one.
    std::vector<std::size_t> fit;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      bool useful = std::any_of(groups_.begin(), groups_.end(), [&](const GroupGrowth& growth) {
        return growth.could_use(scene_, i);
      });
      for (const LayerTarget& target : layers_)
        useful = useful || (target.layer->disk == i && could_use(*target.layer));
      if (useful) fit.push_back(i);
    }
    if (fit.size() == 1) return fit.front();
    Advice commands;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      GrowRequest chosen = request_;
      chosen.disk = i;
      chosen.disk_chosen = true;
      commands += "\n  " + command_with(chosen, request_.gives.empty() ? "TARGET" : "");
    }
    refuse("the guest has several disks that could become larger", {}, "say which one:" + commands);
  }

  bool could_use(const Layer& layer) const {
    const Bytes present = guest_.disks()[layer.disk].size();
    const DiskGrowth now(guest_, layer.disk, present, request_.allow_move);
    const DiskGrowth larger(guest_, layer.disk, present + 1_GiB, request_.allow_move);
    return larger.reach(layer) > now.reach(layer);
  }

  // Sizes come first, then shares of the room, then who takes the rest.
  void hand_out() {
    check_rests();
    // What stands on volumes of others has its room by them.
    for (std::size_t storey = 0; storey <= deepest_storey(); ++storey) {
      if (storey != 0) inner_.resolve(scene_, storey);
      const auto each = [&](const auto& act) {
        for (GroupGrowth& growth : groups_)
          if (growth.storey() == storey) act(growth);
      };
      for (const Amount::Kind kind :
           {Amount::Kind::size, Amount::Kind::percent, Amount::Kind::rest}) {
        if (storey == 0) resolve_layers(kind);
        each([&](GroupGrowth& growth) {
          if (growth.turn() == kind) growth.find_room(scene_);
        });
      }
      each([&](GroupGrowth& growth) { growth.find_what_is_left(scene_); });
      each([&](GroupGrowth& growth) { growth.share(scene_); });
    }
  }

  // What is a share of the same room is a share of all of it.
  void resolve_layers(Amount::Kind kind) {
    std::vector<Bytes> rooms;
    for (const LayerTarget& target : layers_) rooms.push_back(room_for(scene_, *target.layer));
    for (std::size_t i = 0; i < layers_.size(); ++i)
      if (layers_[i].amount.kind == kind) resolve_layer(scene_, layers_[i], rooms[i]);
  }

  // Where partitions may move they share the room of their disk.
  void check_rests() const {
    if (!request_.allow_move) return;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      std::size_t rests = 0;
      for (const LayerTarget& target : layers_)
        rests += target.layer->disk == i && target.amount.kind == Amount::Kind::rest ? 1 : 0;
      for (const GroupGrowth& growth : groups_)
        rests += growth.turn() == Amount::Kind::rest && growth.could_use(scene_, i) ? 1 : 0;
      if (rests > 1)
        wrong_usage("only one target of a disk can take the rest when partitions may move",
                    "give the others a size or a percentage");
    }
  }

  // Table repairs alone are no reason to touch a disk on which nothing else changes.
  void drop_lone_repairs() {
    if (!layers_.empty() || !groups_.empty() || !inner_.empty() || scene_.grows()) return;
    if (!plan_.has<step::MoveSpare>()) plan_.steps.clear();
  }

  [[noreturn]] void refuse_nothing_to_do() const {
    const std::string& path = guest_.disks()[scene_.resized.value_or(request_.disk)].path;
    const Suggestion larger = request_.running || !groups_.empty()
                                  ? command_by_10(request_)
                                  : suggest("grow", {path}).with("by", "10GiB");
    const std::string what = groups_.empty()
                                 ? "the disk has no room that anything could take"
                                 : fmt::format("group {} has no room that anything could take",
                                               groups_.front().group().open.group.name);
    throw Error(Status::refused, "there is nothing to do: " + what,
                groups_.empty() ? path : std::string{}, "make the disk larger too: " + larger)
        .with_reason(Reason::no_room);
  }

  const Guest& guest_;
  const GrowRequest& request_;
  Plan plan_;
  GrowContext scene_;
  std::vector<LayerTarget> layers_;
  std::vector<GroupGrowth> groups_;
  InnerGrowth inner_{guest_};
};

}  // namespace

Plan plan_growth(const Guest& guest, const GrowRequest& request) {
  return Planner(guest, request).run();
}

}  // namespace jh
