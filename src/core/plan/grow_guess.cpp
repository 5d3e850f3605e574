#include "core/plan/grow_guess.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_group.h"
#include "core/plan/room.h"

namespace jh {
namespace {

// One of several that could be meant.
Advice offered(const Guest& guest, const GrowRequest& request, const Layer& layer, Bytes room) {
  return "\n  " + command_with(request, guest.best_name(layer))
                      .because(fmt::format("{} on {}, {} of room", layer.content.name,
                                           guest.name_of(layer), human(room)));
}

class Guess {
 public:
  Guess(const Guest& guest, const GrowRequest& request, Bytes disk_size)
      : guest_(guest),
        request_(request),
        disk_(guest.disks()[request.disk]),
        disk_size_(disk_size) {}

  const Layer& run() {
    if (may_be_a_volume()) return only_volume();
    check_table(disk_);
    for (const Layer& layer : disk_.layers) {
      if (layer.is_set_aside) continue;
      if (room(layer) != Bytes(0))
        (layer.content.is_usual_target() ? growable_ : opaque_).push_back(&layer);
      else if (!request_.running && layer.content.is_usual_target() &&
               layer.content.blockers.empty() && could_grow_by_moves(guest_, layer, disk_size_))
        movable_.push_back(&layer);
    }
    if (growable_.empty() && request_.allow_move) growable_.swap(movable_);
    // Room behind something else too; but only one place makes use of all of it.
    if (growable_.size() == 1) return *growable_.front();
    refuse_to_guess();
  }

 private:
  Bytes room(const Layer& layer) const { return room_of(guest_, layer, disk_size_); }

  // Volumes come into question unless a partition's filesystem does.
  bool may_be_a_volume() const {
    if (guest_.groups().empty()) return false;
    if (!request_.add_disks.empty() || request_.new_partition) return true;
    return std::none_of(disk_.layers.begin(), disk_.layers.end(), [&](const Layer& layer) {
      return is_opened(layer.content) && room(layer) != Bytes(0);
    });
  }

  const Layer& only_volume() const {
    std::vector<const Layer*> candidates;
    for (const VolumeGroup& group : guest_.groups())
      for (const Layer& layer : group.volumes)
        if (is_opened(layer.content) && guest_.in_reach(layer)) candidates.push_back(&layer);
    if (candidates.size() == 1) return *candidates.front();
    Advice commands;
    for (const Layer* layer : candidates)
      commands += "\n  " + command_with(request_, guest_.best_name(*layer))
                               .because(fmt::format("{} on {}", layer->content.name,
                                                    guest_.name_of(*layer)));
    if (request_.to || request_.by) commands += the_disk_alone();
    refuse("several volumes could take the room", {}, "say which is meant:" + commands);
  }

  Advice the_disk_alone() const {
    return "\n  " + command_with(request_, "nothing").because("the disk alone");
  }

  [[noreturn]] void refuse_to_guess() const {
    Advice commands;
    GrowRequest moving = request_;
    moving.allow_move = true;
    if (growable_.empty())
      for (const Layer* layer : movable_)
        commands +=
            "\n  " + command_with(moving, guest_.best_name(*layer))
                         .because(fmt::format("{} on {}: what stands behind it moves to the end",
                                              layer->content.name, guest_.name_of(*layer)));
    const auto offer = [&](const Layer& layer) {
      commands += offered(guest_, request_, layer, room(layer));
    };
    for (const Layer* layer : growable_) offer(*layer);
    for (const Layer* layer : opaque_) offer(*layer);
    if (disk_size_ > disk_.size()) commands += the_disk_alone();
    if (commands.empty())
      throw Error(Status::refused,
                  "there is nothing to do: the disk has no room that anything could take",
                  disk_.path,
                  "make the disk larger too: " +
                      (request_.running ? command_by_10(request_)
                                        : suggest("grow", {disk_.path}).with("by", "10GiB")))
          .with_reason(Reason::no_room);
    refuse(growable_.empty() ? "no growable filesystem borders the free space"
                             : "several places could take the room",
           disk_.path, "say which is meant:" + commands);
  }

  const Guest& guest_;
  const GrowRequest& request_;
  const Disk& disk_;
  Bytes disk_size_;
  std::vector<const Layer*> growable_;
  std::vector<const Layer*> movable_;  // if what stands behind them moved
  std::vector<const Layer*> opaque_;
};

// A running system's room is wherever one of its disks has become larger.
const Layer& only_running_target(const Guest& guest, const GrowRequest& request) {
  std::vector<std::pair<const Layer*, Bytes>> found;
  for (const Layer* layer : guest.layers()) {
    if (!is_opened(layer->content) || layer->is_set_aside || !guest.in_reach(*layer)) continue;
    const auto behind = [&](const Layer& other) {
      return room_of(guest, other, guest.disks()[other.disk].size());
    };
    Bytes room = behind(*layer);
    if (layer->volume)
      for (const Layer* device : guest.group_of(*layer).devices)
        if (device != nullptr) room = room + behind(*device);
    if (room != Bytes(0)) found.emplace_back(layer, room);
  }
  if (found.size() == 1) return *found.front().first;
  if (found.empty())
    throw Error(Status::refused,
                "there is nothing to do: no disk has room that anything mounted could take", {},
                "make a disk larger where the machine is kept, then run this again")
        .with_reason(Reason::no_room);
  Advice commands;
  for (const auto& [layer, room] : found) commands += offered(guest, request, *layer, room);
  refuse("several places could take the room", {}, "say which is meant:" + commands);
}

}  // namespace

const Layer& only_target(const Guest& guest, const GrowRequest& request, Bytes disk_size) {
  if (request.running) return only_running_target(guest, request);
  return Guess(guest, request, disk_size).run();
}

}  // namespace jh
