#include "core/change/plan.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/ext/relocate.h"

namespace jh {
namespace {

constexpr std::uint64_t alignment = 1U << 20;  // what partitions are aligned to by custom

struct Reach {
  Sectors end;  // where the partition could end
  bool to_disk_end = false;
};

Reach reach_of(const Disk& disk, const Partition& partition, Bytes disk_size) {
  const TableFacts& facts = disk.table->facts();
  const Sectors usable = disk.table->usable_end_on(disk_size);
  Reach reach{disk.table->reach(partition, usable), false};
  reach.to_disk_end = reach.end == usable;
  // A partition whose end was aligned stays so, as long as it gains anything.
  const std::uint64_t unit = alignment / facts.sector_size;
  if (partition.end().value() % unit == 0 && reach.end > partition.end())
    reach.end = Sectors(round_down(reach.end.value(), unit));
  return reach;
}

Bytes content_size(const Place& place) { return place.content.size.value_or(place.size); }

class Planner {
 public:
  Planner(const Guest& guest, const GrowRequest& request) : guest_(guest), request_(request) {}

  Plan run() {
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
    const Bytes present = disk().size();
    new_size_ = present;
    if (request_.to) new_size_ = *request_.to;
    if (request_.by) new_size_ = present + *request_.by;
    if (request_.to && new_size_ < present)
      refuse(fmt::format("the disk already has {}; {} would be less", spelled_out(present),
                         human(new_size_)),
             disk().path,
             fmt::format("to make it smaller, or to add that much:\n"
                         "  juneheath shrink {0} --to {1}\n  juneheath grow {0} --by {1}",
                         shell_word(disk().path), paste_size(new_size_)));
    if (new_size_ == present) return;
    std::uint64_t unit = disk().container->size_unit().value();
    if (disk().table) unit = std::max<std::uint64_t>(unit, disk().table->facts().sector_size);
    const Bytes rounded(round_up(new_size_.value(), unit));
    if (rounded != new_size_)
      plan_.notes.push_back(
          fmt::format("a disk has whole sectors: {} bytes are added to the size "
                      "you asked for",
                      (rounded - new_size_).value()));
    new_size_ = rounded;
    disk().container->check_growth(new_size_);
  }

  void settle_target() {
    if (request_.gives.size() > 1)
      unsupported("several --give in one command need a volume group to share the room", {},
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
      (place.content.kind == ContentKind::ext ? growable : opaque).push_back(&place);
    }
    if (growable.size() == 1 && opaque.empty()) {
      target_ = growable.front();
      return;
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
      new_end_ = reach_of(disk(), *target.partition, new_size_).end;
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

  void add(StepKind kind, std::string layer, std::string action, Bytes from, Bytes to,
           std::uint32_t partition = 0, Sectors end = Sectors(0)) {
    plan_.steps.push_back(
        {kind, disk_index_, std::move(layer), std::move(action), from, to, partition, end, 0});
  }

  void add_steps() {
    const Bytes present = disk().size();
    if (new_size_ > present)
      add(StepKind::grow_container, "disk", "make the image longer", present, new_size_);
    add_table_steps(present);
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
    plan_.target_disk = target.disk;
    plan_.target_partition = target.partition ? target.partition->number : 0;
    if (target.partition && new_end_ > target.partition->end()) add_partition_steps(target);
    const std::string name = fmt::format("{} on {}", target.content.name, guest_.name_of(target));
    if (target.content.kind != ContentKind::ext) {
      plan_.remains.push_back(fmt::format(
          "{} is {}, which juneheath leaves as it is: make it larger from inside the guest",
          guest_.name_of(target), target.content.name));
      return;
    }
    ext::Filesystem& fs = *target.content.ext;
    const Bytes place_size = target.partition ? to_bytes(new_end_ - target.partition->first,
                                                         disk().table->facts().sector_size)
                                              : new_content_;
    const Bytes wanted = amount_.kind == Amount::Kind::rest ? place_size : new_content_;
    const auto growth = ext::plan_grow(fs, wanted.value() / fs.geometry().block_size);
    for (const std::string& note : growth.notes) plan_.notes.push_back(name + ": " + note);
    if (!growth.changes()) return;
    const std::uint64_t bs = growth.after.block_size;
    if (target.content.rest) {
      add(StepKind::settle_ext, name, "replay the journal: " + target.content.rest->text(),
          place_size, place_size, plan_.target_partition);
      plan_.bytes_to_write += (target.content.rest->blocks + 64) * bs;
    }
    if (growth.descriptor_overrun() != 0) {
      // Which blocks lie there is seen when they are moved; the plan names the most it can be.
      add(StepKind::clear_way, name,
          fmt::format("move what lies in the way of {} further descriptor blocks",
                      growth.descriptor_overrun()),
          place_size, place_size, plan_.target_partition);
      for (const ext::BlockRun& run : ext::table_way(growth))
        plan_.bytes_to_write += (run.count + growth.before.itable_blocks) * bs;
    }
    add(StepKind::grow_ext, name,
        fmt::format("add {} block groups", growth.after.group_count - growth.before.group_count),
        Bytes(growth.before.blocks * bs), Bytes(growth.after.blocks * bs), plan_.target_partition);
    if (growth.after.group_count == growth.before.group_count)
      plan_.steps.back().action = "extend the last block group";
    for (Step& step : plan_.steps)
      if (step.kind == StepKind::grow_ext || step.kind == StepKind::clear_way)
        step.new_blocks = growth.after.blocks;
    plan_.bytes_to_write += growth.bytes_to_write;
  }

  void add_table_steps(Bytes present) {
    if (!disk().table) return;
    const TableFacts& facts = disk().table->facts();
    const std::string name = kind_name(facts.kind);
    const bool changes = new_size_ > present || target_ != nullptr;
    if (!facts.repairs.empty() && changes)
      for (const std::string& repair : facts.repairs)
        add(StepKind::repair_table, name, "repair: " + repair, present, present);
    if (facts.kind == TableKind::gpt && (disk().table->must_move_spare() || new_size_ > present)) {
      const std::uint64_t sector = facts.sector_size;
      add(StepKind::move_spare, name, "move the spare copy to the disk's end",
          Bytes(facts.known_end.value() * sector),
          Bytes(disk().table->usable_end_on(new_size_).value() * sector));
    }
    plan_.bytes_to_write += 256 * 1024;
    if (facts.kind == TableKind::mbr &&
        new_size_ > to_bytes(Sectors(1ULL << 32), facts.sector_size))
      plan_.notes.push_back(
          fmt::format("an MBR reaches {} only; what lies behind cannot be used by a partition",
                      human(to_bytes(Sectors(1ULL << 32), facts.sector_size))));
  }

  void add_partition_steps(const Place& target) {
    const std::uint32_t sector = disk().table->facts().sector_size;
    const auto step = [&](const Partition& partition) {
      add(StepKind::grow_partition,
          guest_.disks().size() == 1 ? fmt::format("p{}", partition.number)
                                     : fmt::format("{}:p{}", disk_index_ + 1, partition.number),
          "move its end outwards", to_bytes(partition.count, sector),
          to_bytes(new_end_ - partition.first, sector), partition.number, new_end_);
    };
    if (const Partition* outer = disk().table->extended_to_grow(*target.partition, new_end_)) {
      step(*outer);
      plan_.steps.back().action = "the extended partition grows along";
    }
    step(*target.partition);
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

bool Plan::touches(std::size_t disk) const {
  return std::any_of(steps.begin(), steps.end(),
                     [&](const Step& step) { return step.disk == disk; });
}

Plan plan_growth(const Guest& guest, const GrowRequest& request) {
  return Planner(guest, request).run();
}

Bytes room_of(const Guest& guest, const Place& place, Bytes disk_size) {
  if (place.content.kind == ContentKind::extended) return Bytes(0);
  const Disk& disk = guest.disks()[place.disk];
  Bytes reach = std::max(place.size, disk_size);
  if (place.partition) {
    const Sectors end = reach_of(disk, *place.partition, disk_size).end;
    reach = to_bytes(end - place.partition->first, disk.table->facts().sector_size);
  }
  Bytes size = content_size(place);
  if (place.content.ext) {
    // Less than a block at the end is no room.
    const std::uint64_t bs = place.content.ext->geometry().block_size;
    reach = std::max(size, Bytes(round_down(reach.value(), bs)));
  }
  return reach > size ? reach - size : Bytes(0);
}

std::string shell_word(const std::string& text) {
  const bool plain = !text.empty() && std::all_of(text.begin(), text.end(), [](unsigned char c) {
    return std::isalnum(c) != 0 ||
           std::string_view("/._-+=:@%,").find(static_cast<char>(c)) != std::string_view::npos;
  });
  if (plain) return text;
  std::string quoted = "'";
  for (const char c : text) quoted += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return quoted + "'";
}

std::string command_with(const GrowRequest& request, const std::string& give) {
  std::string command = "juneheath grow";
  for (const std::string& image : request.images) command += " " + shell_word(image);
  if (request.to) command += " --to " + paste_size(*request.to);
  if (request.by) command += " --by " + paste_size(*request.by);
  if (request.disk_chosen) command += fmt::format(" --disk {}", request.disk + 1);
  return command + " --give " + shell_word(give);
}

}  // namespace jh
