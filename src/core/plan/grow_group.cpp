#include "core/plan/grow_group.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/lvm/grow.h"
#include "core/plan/commands.h"
#include "core/plan/content.h"
#include "core/plan/grow_group_steps.h"
#include "core/plan/room.h"
#include "core/store/memory_store.h"

namespace jh {
namespace {

bool in_known_group(const Guest& guest, const Place& place) {
  std::size_t pv = 0;
  return place.volume || guest.group_on(place, pv) != nullptr;
}

class GroupPlanner {
 public:
  GroupPlanner(const Guest& guest, const GrowRequest& request)
      : guest_(guest),
        request_(request),
        group_(guest.groups()[settle_targets()]),
        planned_(group_.open),
        disk_sizes_(guest.disks().size()) {}

  Plan run() {
    check_blockers();
    settle_sizes();
    find_ways();
    share();
    add_group_steps(plan_, {guest_, request_, group_, planned_, disk_sizes_, resized_, growths_,
                            fresh_, wishes_, settled_, free_before_});
    if (plan_.steps.empty())
      refuse(fmt::format("there is nothing to do: group {} has no room that anything could take",
                         facts().name),
             {}, fmt::format("make the disk larger too: {}", command_by_10()));
    // Held bytes go to the ledger twice (old and new) and to the image once.
    plan_.bytes_to_write = plan_.bytes_to_write * 3 + (1U << 20);
    return plan_;
  }

 private:
  const lvm::Group& facts() const { return group_.open.group; }
  std::string command_by_10() const {
    std::string command = "juneheath grow";
    for (const std::string& image : request_.images) command += " " + shell_word(image);
    command += " --by 10GiB";
    for (const Give& give : request_.gives) command += " --give " + shell_word(give.written);
    return command;
  }

  // Returns the group all targets belong to.
  std::size_t settle_targets() {
    std::optional<std::size_t> group;
    const auto belongs = [&](const Place& place) {
      std::size_t pv = 0;
      const std::size_t own =
          place.volume
              ? place.volume->group
              : static_cast<std::size_t>(guest_.group_on(place, pv) - guest_.groups().data());
      if (group && *group != own)
        unsupported("the targets lie in different volume groups", {},
                    "give each group its room with a command of its own");
      group = own;
    };
    for (const Give& give : request_.gives) {
      const Place* place = find_target(guest_, give.target);
      if (place == nullptr || !in_known_group(guest_, *place))
        unsupported("several targets must be volumes of one group, to share its room", {},
                    "give the room to one of them, or name volumes only");
      belongs(*place);
      if (place->volume) {
        for (const Wish& wish : wishes_)
          if (wish.volume == place)
            wrong_usage(fmt::format("{} is named twice", give.target), "name each target once");
        wishes_.push_back({place, give.amount, 0, 0});
      } else {
        device_target_ = place;
        if (give.amount.kind != Amount::Kind::rest)
          unsupported("a physical volume takes all the room there is", {},
                      "write --give " + give.target);
      }
    }
    if (request_.gives.empty()) {
      const Place& place = only_candidate();
      belongs(place);
      wishes_.push_back({&place, {}, 0, 0});
    }
    return *group;
  }

  const Place& only_candidate() {
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

  void check_blockers() {
    const auto blockers = group_.open.blockers();
    if (!blockers.empty()) throw blockers.front();
    for (const Wish& wish : wishes_) {
      const Place& place = *wish.volume;
      const lvm::Volume& volume = guest_.volume_of(place);
      const std::string name = guest_.name_of(place);
      const char* next = "it is kept as it is; make it larger from inside the guest";
      if (!volume.plain())
        unsupported(
            fmt::format("{} is a {} volume, which juneheath leaves alone", name, volume.kind),
            "LVM", next);
      if (!volume.used_by.empty())
        unsupported(fmt::format("{} is what volume {} is built on", name, volume.used_by), "LVM",
                    next);
      if (!volume.visible)
        unsupported(fmt::format("{} is an internal volume of the group", name), "LVM", next);
      if (!place.window)
        refuse(fmt::format("{} lies on a disk that is not there", name), "LVM",
               "name all disks of the guest in one command");
      if (!place.content.blockers.empty()) throw place.content.blockers.front();
    }
  }

  void settle_sizes() {
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      const Disk& disk = guest_.disks()[i];
      plan_.disks.push_back({disk.path, disk.added ? Bytes(0) : disk.size(), disk.size()});
      disk_sizes_[i] = disk.size();
    }
    if (!request_.to && !request_.by) return;
    resized_ = disk_to_resize();
    const Disk& disk = guest_.disks()[*resized_];
    check_table_of(disk);
    disk_sizes_[*resized_] = plan_.disks[*resized_].to = settle_size(plan_, request_, disk);
  }

  std::size_t disk_to_resize() const {
    if (request_.disk_chosen || request_.images.size() == 1) return request_.disk;
    // The disk whose end a physical volume of the group could follow.
    std::vector<std::size_t> fit;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      const Bytes larger = guest_.disks()[i].size() + 1_GiB;
      for (std::size_t pv = 0; pv < group_.devices.size(); ++pv)
        if (group_.devices[pv]->disk == i && growth_of(pv, larger)) {
          fit.push_back(i);
          break;
        }
    }
    if (fit.size() == 1) return fit.front();
    std::string commands;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      GrowRequest chosen = request_;
      chosen.disk = i;
      chosen.disk_chosen = true;
      commands += "\n  " + command_with(chosen, request_.gives.empty() ? "TARGET"
                                                                       : request_.gives[0].written);
    }
    refuse("the guest has several disks that could become larger", {}, "say which one:" + commands);
  }

  std::optional<DeviceGrowth> growth_of(std::size_t pv, Bytes disk_size) const {
    const Place& place = *group_.devices[pv];
    const Disk& disk = guest_.disks()[place.disk];
    DeviceGrowth growth{pv, &place, Sectors(0), disk_size};
    if (place.partition) {
      if (!disk.table->facts().blockers.empty()) return std::nullopt;
      growth.new_end = aligned_reach(disk, *place.partition, disk_size);
      growth.new_size =
          to_bytes(growth.new_end - place.partition->first, disk.table->facts().sector_size);
    }
    if (growth.new_size <= place.size ||
        lvm::extents_of(group_.open, pv, growth.new_size.value()) <= facts().pvs[pv].extents)
      return std::nullopt;
    return growth;
  }

  // Way 1 is what the group has free; way 2: physical volumes grow in place; way 3: a new
  // partition.
  void find_ways() {
    const bool sized = resized_ && disk_sizes_[*resized_] > guest_.disks()[*resized_].size();
    free_before_ = facts().free_extents();
    if (!sized && device_target_ == nullptr && request_.add_disks.empty() &&
        !request_.new_partition && fits_as_it_is())
      return;
    for (std::size_t pv = 0; pv < group_.devices.size(); ++pv) {
      if (device_target_ != nullptr && group_.devices[pv] != device_target_ && wishes_.empty())
        continue;
      if (const auto growth = growth_of(pv, disk_sizes_[group_.devices[pv]->disk]))
        growths_.push_back(*growth);
    }
    if (!request_.add_disks.empty()) {
      if (!sized) growths_.clear();
      add_disks();
    }
    if (request_.new_partition) growths_.clear();
    for (const DeviceGrowth& growth : growths_)
      lvm::set_device_size(planned_, growth.pv, growth.new_size.value());
    if (device_target_ != nullptr && wishes_.empty() && !request_.new_partition) return;
    if (request_.new_partition ||
        (fresh_.empty() && growths_.empty() && (sized || free_before_ == 0 || !rest_only())))
      find_new_partition(sized);
  }

  bool rest_only() const {
    return std::none_of(wishes_.begin(), wishes_.end(),
                        [](const Wish& wish) { return wish.amount.kind == Amount::Kind::size; });
  }

  // On the disk that becomes larger, or the one with the largest room.
  void find_new_partition(bool sized) {
    std::optional<Error> why;
    std::optional<FreshDevice> best;
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      const Disk& disk = guest_.disks()[i];
      if ((sized && i != *resized_) || (request_.disk_chosen && i != request_.disk) || !disk.table)
        continue;
      check_table_of(disk);
      try {
        const NewPartition fresh = disk.table->place_new(disk_sizes_[i]);
        const Bytes size = to_bytes(fresh.end - fresh.first, disk.table->facts().sector_size);
        if (lvm::new_extents(planned_, size.value()) == 0 || (best && size <= best->size)) continue;
        best = FreshDevice{i, fresh, size, false};
      } catch (const Error& error) {
        if (error.status() != Status::refused) throw;
        why = error.within(disk.path);
      }
    }
    if (!best) {
      if (!request_.new_partition && !sized) return;  // share() says what there is
      if (why) throw *why;
      refuse("the new room is too small for a physical volume", group_text(),
             "make the disk larger (--by SIZE)");
    }
    if (guest_.lists_lvm_devices() && !request_.new_partition)
      refuse(
          "a new partition would be needed, and the guest would ignore it: it uses only the "
          "LVM devices on its own list (/etc/lvm/devices/system.devices)",
          guest_.disks()[best->disk].path,
          "put the new one on that list afterwards, and ask for it with --new-partition");
    use(*best);
  }

  void use(const FreshDevice& fresh) {
    fresh_.push_back(fresh);
    lvm::plan_device(planned_, fresh.size.value());
    if (guest_.lists_lvm_devices())
      plan_.remains.push_back(fmt::format(
          "put {} on the guest's list of LVM devices (/etc/lvm/devices/system.devices); until then "
          "it does not find all of group {}",
          name_of_new(guest_, fresh), facts().name));
  }

  void add_disks() {
    for (std::size_t i = 0; i < guest_.disks().size(); ++i) {
      const Disk& disk = guest_.disks()[i];
      if (!disk.added) continue;
      MemoryStore blank(disk.size().value());
      const auto table = make_table(blank, table_kind_of_new(guest_, disk), 512);
      const NewPartition partition = table->place_new(disk.size());
      use({i, partition, to_bytes(partition.end - partition.first, 512), true});
    }
  }

  std::string group_text() const { return "group " + facts().name; }

  bool fits_as_it_is() {
    if (std::any_of(wishes_.begin(), wishes_.end(),
                    [](const Wish& wish) { return wish.amount.kind != Amount::Kind::size; }))
      return false;
    lvm::Group trial = facts();
    for (const Wish& wish : wishes_) {
      const std::string& name = guest_.volume_of(*wish.volume).name;
      const std::uint64_t extents = whole_steps(wish, wish.amount.size);
      const auto additions = lvm::allocate(trial, *trial.find(name), extents);
      if (lvm::total(additions) < extents) return false;
      lvm::extend_volume(trial, name, additions);
    }
    return true;
  }

  // An amount in extents, rounded up to what the volume can take.
  std::uint64_t whole_steps(const Wish& wish, Bytes amount) const {
    const std::uint64_t step = lvm::step_of(guest_.volume_of(*wish.volume));
    return round_up(ceil_div(amount.value(), facts().extent_size), step);
  }

  void share() {
    const std::uint64_t room = planned_.group.free_extents();
    std::vector<Wish*> order;
    for (const Amount::Kind kind : {Amount::Kind::size, Amount::Kind::percent, Amount::Kind::rest})
      for (Wish& wish : wishes_)
        if (wish.amount.kind == kind) order.push_back(&wish);
    if (order.size() > 1 && order[order.size() - 2]->amount.kind == Amount::Kind::rest)
      wrong_usage("only one target can take the rest", "give the others a size or a percentage");
    for (Wish* wish : order) settle(*wish, room);
  }

  void settle(Wish& wish, std::uint64_t room) {
    const std::string name = guest_.volume_of(*wish.volume).name;
    const lvm::Volume volume = *planned_.group.find(name);
    const std::uint64_t step = lvm::step_of(volume);
    std::uint64_t extents = lvm::most_extents;
    if (wish.amount.kind == Amount::Kind::percent)
      extents = round_down(
          room / 10000 * wish.amount.hundredths + room % 10000 * wish.amount.hundredths / 10000,
          step);
    if (wish.amount.kind == Amount::Kind::size) extents = whole_steps(wish, wish.amount.size);
    if (wish.amount.kind == Amount::Kind::rest) extents = round_down(extents, step);
    const auto additions = lvm::allocate(planned_.group, volume, extents);
    const std::uint64_t got = lvm::total(additions);
    if (got < extents && wish.amount.kind != Amount::Kind::rest) refuse_amount(wish, extents, got);
    if (got == 0 && content_size(*wish.volume) >= wish.volume->size && wishes_.size() > 1)
      refuse(fmt::format("nothing is left for {}", guest_.best_name(*wish.volume)), {},
             "give the others less, or make the disk larger");
    const Bytes exact = group_.bytes(got);
    if (wish.amount.kind == Amount::Kind::size && exact != wish.amount.size)
      plan_.notes.push_back(
          fmt::format("{} gets {} instead of {}: whole {}of {}", guest_.best_name(*wish.volume),
                      spelled_out(exact), human(wish.amount.size),
                      step == 1 ? "extents " : fmt::format("rows of {} extents ", step),
                      human(Bytes(facts().extent_size))));
    wish.extents = got;
    wish.pieces = additions.size();
    settled_.push_back(&wish);
    lvm::extend_volume(planned_.group, name, additions);
  }

  [[noreturn]] void refuse_amount(const Wish& wish, std::uint64_t wanted, std::uint64_t got) {
    const std::string name = guest_.best_name(*wish.volume);
    const std::string what = fmt::format("{} cannot get {}: that takes {} extents of {}, and ",
                                         name, human(group_.bytes(wanted)), grouped(wanted),
                                         human(Bytes(facts().extent_size))) +
                             (got == 0 ? std::string("none is free")
                                       : fmt::format("there {} {}: {}", got == 1 ? "is" : "are",
                                                     grouped(got), spelled_out(group_.bytes(got))));
    if (got == 0)
      refuse(what, "group " + facts().name, "make the disk larger:\n  " + command_by_10());
    refuse(what, "group " + facts().name,
           "take what there is:\n  " + command_with(request_, name + "=rest"));
  }

  const Guest& guest_;
  const GrowRequest& request_;
  std::vector<Wish> wishes_;
  const Place* device_target_ = nullptr;
  const VolumeGroup& group_;
  lvm::OpenGroup planned_;
  std::vector<Bytes> disk_sizes_;
  std::optional<std::size_t> resized_;
  std::vector<DeviceGrowth> growths_;
  std::vector<FreshDevice> fresh_;
  std::vector<const Wish*> settled_;
  std::uint64_t free_before_ = 0;
  Plan plan_;
};

}  // namespace

bool gives_to_group(const Guest& guest, const GrowRequest& request) {
  for (const Give& give : request.gives) {
    const Place* place = find_target(guest, give.target);
    if (place != nullptr && in_known_group(guest, *place)) return true;
  }
  if (!request.gives.empty() || guest.groups().empty()) return false;
  if (!request.add_disks.empty() || request.new_partition) return true;
  // No target is named: volumes come into question unless a partition's filesystem does.
  const Disk& disk = guest.disks()[request.disk];
  const Bytes size =
      request.to ? std::max(*request.to, disk.size()) : disk.size() + request.by.value_or(Bytes(0));
  return std::none_of(disk.places.begin(), disk.places.end(), [&](const Place& place) {
    return is_opened(place.content) && room_of(guest, place, size) != Bytes(0);
  });
}

Plan plan_group_growth(const Guest& guest, const GrowRequest& request) {
  return GroupPlanner(guest, request).run();
}

}  // namespace jh
