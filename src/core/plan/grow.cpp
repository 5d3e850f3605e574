#include "core/plan/grow.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/guest/target.h"
#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_group.h"
#include "core/plan/room.h"

namespace jh {
namespace {

class Planner {
 public:
  Planner(const Guest& guest, const GrowRequest& request) : guest_(guest), request_(request) {}

  Plan run() {
    if (request_.new_partition || !request_.add_disks.empty())
      unsupported("new partitions and disks are made for a volume group only", {},
                  "give the room to a volume of the group: " + command_with(request_, "TARGET"));
    settle_disk();
    check_table();
    for (const Disk& disk : guest_.disks())
      plan_.disks.push_back({disk.path, disk.size(), disk.size()});
    plan_.disks[disk_index_].to = new_size_;
    settle_target();
    if (target_ != nullptr) settle_amount();
    check_blockers();
    add_steps();
    if (plan_.steps.empty())
      refuse("there is nothing to do: the disk has no room that anything could take", disk().path,
             fmt::format("make the disk larger too: {}",
                         "juneheath grow " + shell_word(disk().path) + " --by 10GiB"));
    // Held bytes go to the ledger twice (old and new) and to the image once.
    plan_.bytes_to_write = plan_.bytes_to_write * 3 + (1U << 20);
    return plan_;
  }

 private:
  const Disk& disk() const { return guest_.disks()[disk_index_]; }

  void settle_disk() {
    disk_index_ = request_.disk;
    if (!request_.disk_chosen && !request_.gives.empty() && guest_.disks().size() > 1) {
      const Place* place = find_target(guest_, request_.gives.front().target);
      if (place != nullptr) disk_index_ = place->disk;
    }
    new_size_ = settle_size(plan_, request_, disk());
  }

  void settle_target() {
    if (request_.gives.size() > 1)
      unsupported("several targets must be volumes of one group, to share its room", {},
                  "give the room to one target: " + command_with(request_, "TARGET"));
    if (!request_.gives.empty()) {
      target_ = find_target(guest_, request_.gives.front().target);
      amount_ = request_.gives.front().amount;
      if (target_ == nullptr && amount_.kind != Amount::Kind::rest)
        wrong_usage("\"nothing\" takes no amount", "write --give nothing");
      if (target_ != nullptr && target_->disk != disk_index_)
        refuse("the target is not on the disk that is to become larger", disk().path,
               fmt::format("add --disk {}", target_->disk + 1));
      return;
    }
    std::vector<const Place*> growable;
    std::vector<const Place*> opaque;
    for (const Place& place : disk().places) {
      if (room_of(guest_, place, new_size_) == Bytes(0)) continue;
      const bool known = place.content.is_usual_target();
      (known ? growable : opaque).push_back(&place);
    }
    if (growable.size() == 1) {
      // Room behind something else too; but only one place makes use of all of it.
      target_ = growable.front();
      return;
    }
    refuse_to_guess(growable, opaque);
  }

  [[noreturn]] void refuse_to_guess(const std::vector<const Place*>& growable,
                                    const std::vector<const Place*>& opaque) {
    std::string commands;
    const auto offer = [&](const Place& place) {
      commands += fmt::format("\n  {}   # {} on {}, {} of room",
                              command_with(request_, guest_.best_name(place)), place.content.name,
                              guest_.name_of(place), human(room_of(guest_, place, new_size_)));
    };
    for (const Place* place : growable) offer(*place);
    for (const Place* place : opaque) offer(*place);
    if (new_size_ > disk().size())
      commands += fmt::format("\n  {}   # the disk alone", command_with(request_, "nothing"));
    if (growable.empty() && opaque.empty() && new_size_ == disk().size())
      refuse("there is nothing to do: the disk has no room that anything could take", disk().path,
             "make the disk larger too: juneheath grow " + shell_word(disk().path) + " --by 10GiB");
    refuse(growable.empty() ? "no filesystem that juneheath can grow lies before the room"
                            : "several places could take the room",
           disk().path, "say which is meant:" + commands);
  }

  // From here on target_ is set: new end of its partition, new size of what is in it.
  void settle_amount() {
    const Place& target = *target_;
    const Bytes room = room_of(guest_, target, new_size_);
    Bytes add = room;
    if (amount_.kind == Amount::Kind::size) add = amount_.size;
    if (amount_.kind == Amount::Kind::percent)
      add = Bytes(checked_mul(room.value() / 10000, amount_.hundredths) +
                  room.value() % 10000 * amount_.hundredths / 10000);
    const std::uint64_t unit = disk().table ? disk().table->facts().sector_size : 512;
    if (amount_.kind == Amount::Kind::percent) add = Bytes(round_down(add.value(), unit));
    if (add > room || room == Bytes(0)) refuse_amount(target, add, room);
    if (add.value() % unit != 0)
      refuse(fmt::format("{} bytes are no whole number of {}-byte sectors", add.value(), unit), {},
             fmt::format("ask for {} or {} bytes", round_down(add.value(), unit),
                         round_up(add.value(), unit)));
    if (amount_.kind != Amount::Kind::rest && add == Bytes(0))
      wrong_usage("an amount of nothing", "use a size greater than zero, a percentage, or rest");
    new_content_ = content_size(target) + add;
    if (!target.partition) return;
    const Sectors needed(target.partition->first.value() + ceil_div(new_content_.value(), unit));
    new_end_ = std::max(target.partition->end(), needed);
    // All of the room, or all of the partition: the filesystem fills it as well as it can.
    if (amount_.kind == Amount::Kind::rest)
      new_end_ = aligned_reach(disk(), *target.partition, new_size_);
  }

  [[noreturn]] void refuse_amount(const Place& target, Bytes add, Bytes room) {
    const std::string name = guest_.best_name(target);
    if (room != Bytes(0))
      refuse(fmt::format("{} cannot get {}: there are only {}", name, spelled_out(add),
                         spelled_out(room)),
             disk().path, "take what there is:\n  " + command_with(request_, name + "=rest"));
    std::string why = "there is no room behind it";
    std::string next = "make the disk larger:\n  juneheath grow " + shell_word(disk().path) +
                       " --by 10GiB --give " + shell_word(name);
    if (target.partition) {
      for (const Place& other : disk().places) {
        if (!other.partition || other.partition->role == PartitionRole::extended) continue;
        if (other.partition->first < target.partition->end()) continue;
        why = fmt::format("{} ({}) stands directly behind it", guest_.name_of(other),
                          other.content.name);
        next = "give the room to that one, or to the disk alone (--give nothing)";
        break;
      }
    }
    refuse(fmt::format("{} cannot grow: {}", name, why), disk().path, next);
  }

  void check_table() {
    if (disk().trouble) throw *disk().trouble;
    if (disk().table && !disk().table->facts().blockers.empty())
      throw disk().table->facts().blockers.front();
  }

  void check_blockers() {
    if (target_ != nullptr && !target_->content.blockers.empty())
      throw target_->content.blockers.front();
  }

  void add_steps() {
    const Bytes present = disk().size();
    plan_container(plan_, guest_, request_, disk_index_, new_size_);
    plan_table(plan_, guest_, disk_index_, new_size_, new_size_ > present || target_ != nullptr);
    if (target_ == nullptr) {
      // Table repairs alone are no reason to touch a disk on which nothing else changes.
      if (new_size_ == present &&
          std::none_of(plan_.steps.begin(), plan_.steps.end(),
                       [](const Step& s) { return s.kind == StepKind::move_spare; }))
        plan_.steps.clear();
      return;
    }
    const Place& target = *target_;
    plan_.target = guest_.best_name(target);
    plan_.targets.push_back(where_is(guest_, target));
    if (target.partition && new_end_ > target.partition->end())
      plan_partition_end(plan_, guest_, target, new_end_);
    const Bytes place_size = target.partition ? to_bytes(new_end_ - target.partition->first,
                                                         disk().table->facts().sector_size)
                                              : new_content_;
    plan_content(plan_, guest_, target, place_size,
                 amount_.kind == Amount::Kind::rest ? place_size : new_content_);
  }

  const Guest& guest_;
  const GrowRequest& request_;
  Plan plan_;
  std::size_t disk_index_ = 0;
  Bytes new_size_;
  const Place* target_ = nullptr;
  Amount amount_;
  Bytes new_content_;
  Sectors new_end_;
};

}  // namespace

Plan plan_growth(const Guest& guest, const GrowRequest& request) {
  if (gives_to_group(guest, request)) return plan_group_growth(guest, request);
  return Planner(guest, request).run();
}

}  // namespace jh
