#include "core/plan/grow_guess.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_group.h"
#include "core/plan/room.h"

namespace jh {
namespace {

class Guess {
 public:
  Guess(const Guest& guest, const GrowRequest& request, Bytes disk_size)
      : guest_(guest),
        request_(request),
        disk_(guest.disks()[request.disk]),
        disk_size_(disk_size) {}

  const Place& run() {
    if (may_be_a_volume()) return only_volume();
    check_table(disk_);
    for (const Place& place : disk_.places) {
      if (place.is_set_aside) continue;
      if (room(place) != Bytes(0))
        (place.content.is_usual_target() ? growable_ : opaque_).push_back(&place);
      else if (!request_.running && place.content.is_usual_target() &&
               place.content.blockers.empty() && could_grow_by_moves(guest_, place, disk_size_))
        movable_.push_back(&place);
    }
    if (growable_.empty() && request_.allow_move) growable_.swap(movable_);
    // Room behind something else too; but only one place makes use of all of it.
    if (growable_.size() == 1) return *growable_.front();
    refuse_to_guess();
  }

 private:
  Bytes room(const Place& place) const { return room_of(guest_, place, disk_size_); }

  // Volumes come into question unless a partition's filesystem does.
  bool may_be_a_volume() const {
    if (guest_.groups().empty()) return false;
    if (!request_.add_disks.empty() || request_.new_partition) return true;
    return std::none_of(disk_.places.begin(), disk_.places.end(), [&](const Place& place) {
      return is_opened(place.content) && room(place) != Bytes(0);
    });
  }

  const Place& only_volume() const {
    std::vector<const Place*> candidates;
    for (const VolumeGroup& group : guest_.groups())
      for (const Place& place : group.volumes)
        if (is_opened(place.content)) candidates.push_back(&place);
    if (candidates.size() == 1) return *candidates.front();
    std::string commands;
    for (const Place* place : candidates)
      commands +=
          fmt::format("\n  {}   # {} on {}", command_with(request_, guest_.best_name(*place)),
                      place->content.name, guest_.name_of(*place));
    if (request_.to || request_.by)
      commands += fmt::format("\n  {}   # the disk alone", command_with(request_, "nothing"));
    refuse("several volumes could take the room", {}, "say which is meant:" + commands);
  }

  [[noreturn]] void refuse_to_guess() const {
    std::string commands;
    GrowRequest moving = request_;
    moving.allow_move = true;
    if (growable_.empty())
      for (const Place* place : movable_)
        commands += fmt::format("\n  {}   # {} on {}: what stands behind it moves to the end",
                                command_with(moving, guest_.best_name(*place)), place->content.name,
                                guest_.name_of(*place));
    const auto offer = [&](const Place& place) {
      commands += fmt::format("\n  {}   # {} on {}, {} of room",
                              command_with(request_, guest_.best_name(place)), place.content.name,
                              guest_.name_of(place), human(room(place)));
    };
    for (const Place* place : growable_) offer(*place);
    for (const Place* place : opaque_) offer(*place);
    if (disk_size_ > disk_.size())
      commands += fmt::format("\n  {}   # the disk alone", command_with(request_, "nothing"));
    if (commands.empty())
      throw Error(
          Status::refused, "there is nothing to do: the disk has no room that anything could take",
          disk_.path,
          "make the disk larger too: " +
              (request_.running ? command_by_10(request_)
                                : "juneheath grow " + shell_word(disk_.path) + " --by 10GiB"))
          .with_reason(Reason::no_room);
    refuse(growable_.empty() ? "no growable filesystem borders the free space"
                             : "several places could take the room",
           disk_.path, "say which is meant:" + commands);
  }

  const Guest& guest_;
  const GrowRequest& request_;
  const Disk& disk_;
  Bytes disk_size_;
  std::vector<const Place*> growable_;
  std::vector<const Place*> movable_;  // if what stands behind them moved
  std::vector<const Place*> opaque_;
};

// A running system's room is wherever one of its disks has become larger.
const Place& only_running_target(const Guest& guest, const GrowRequest& request) {
  std::vector<std::pair<const Place*, Bytes>> found;
  for (const Place* place : guest.places()) {
    if (!is_opened(place->content) || place->is_set_aside) continue;
    const auto behind = [&](const Place& other) {
      return room_of(guest, other, guest.disks()[other.disk].size());
    };
    Bytes room = behind(*place);
    if (place->volume)
      for (const Place* device : guest.group_of(*place).devices)
        if (device != nullptr) room = room + behind(*device);
    if (room != Bytes(0)) found.emplace_back(place, room);
  }
  if (found.size() == 1) return *found.front().first;
  if (found.empty())
    throw Error(Status::refused,
                "there is nothing to do: no disk has room that anything mounted could take", {},
                "make a disk larger where the machine is kept, then run this again")
        .with_reason(Reason::no_room);
  std::string commands;
  for (const auto& [place, room] : found)
    commands += fmt::format("\n  {}   # {} on {}, {} of room",
                            command_with(request, guest.best_name(*place)), place->content.name,
                            guest.name_of(*place), human(room));
  refuse("several places could take the room", {}, "say which is meant:" + commands);
}

}  // namespace

const Place& only_target(const Guest& guest, const GrowRequest& request, Bytes disk_size) {
  if (request.running) return only_running_target(guest, request);
  return Guess(guest, request, disk_size).run();
}

}  // namespace jh
