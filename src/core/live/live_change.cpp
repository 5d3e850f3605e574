#include "core/live/live_change.h"

#include <fmt/format.h>

#include <map>
#include <sstream>

#include "core/plan/content.h"

namespace jh::live {
namespace {

// By which a layer is known whatever it is called: what is in it, and what it lies in.
std::string identity_of(const Guest& guest, const Layer& layer) {
  if (layer.volume)
    return "volume " + guest.group_of(layer).open.group.id + guest.volume_of(layer).id;
  const Disk& disk = guest.disks()[layer.disk];
  std::string text = layer.partition ? "partition" : "disk";
  if (layer.partition)
    text += disk.table->facts().kind == TableKind::gpt
                ? " " + layer.partition->part_uuid
                : fmt::format(" {} {}", disk.table->facts().id, layer.offset.value());
  return text + " " + layer.content.uuid;
}

// What holds no files, and has only its identity to lose.
bool is_swap(Store& device) { return recognise_content(device).moves_without_free(); }

}  // namespace

LiveChange::LiveChange(Kernel& kernel, GrowRequest request, Notes notes, bool to_change)
    : kernel_(kernel), request_(std::move(request)), notes_(std::move(notes)) {
  if (to_change) {
    const std::string lacks = kernel_.lacks_rights();
    if (!lacks.empty())
      refuse("a running system is changed by its administrator only: " + lacks, {},
             "run it as root, outside of a container");
  }
  ask_for_sizes(kernel_);
  if (to_change) {
    lock();
    claim_new_disks();
    put_swap_back();
  }
  Prepared prepared = prepare();
  system_ = std::move(prepared.system);
  plan_ = std::move(prepared.plan);
  if (prepared.all_done) {
    notes_.remove(goal_note);
    throw Error(Status::refused,
                "there is nothing to do: an earlier run of this command was cut off, but had done "
                "all of it",
                {}, "to add the same once more, run it again")
        .with_reason(Reason::no_room);
  }
}

LiveChange::Prepared LiveChange::prepare() {
  Prepared prepared{look(/*with_added=*/true), {}};
  request_.add_disks.clear();
  for (const Disk& disk : prepared.system->guest().disks())
    if (disk.added) request_.add_disks.emplace_back(disk.path, disk.size());
  GrowRequest left = request_;
  prepared.all_done = !ask_for_what_is_left(*prepared.system, left);
  if (!prepared.all_done) prepared.plan = plan_live(*prepared.system, left);
  return prepared;
}

// The same command again: what it was to add is not added twice. False: all is done.
bool LiveChange::ask_for_what_is_left(const RunningSystem& system, GrowRequest& request) const {
  const auto note = notes_.get(goal_note);
  if (!note) return true;
  // By what the layers are, not by what they were called: the same words may mean another by now.
  std::istringstream lines(*note);
  std::map<std::string, std::uint64_t> goals;
  std::string identity;
  for (std::uint64_t size = 0; lines >> size && std::getline(lines >> std::ws, identity);)
    goals[identity] = size;
  std::vector<Give> left;
  for (Give give : request.gives) {
    const Layer* layer = find_target(system.guest(), give.target);
    const auto goal =
        layer == nullptr ? goals.end() : goals.find(identity_of(system.guest(), *layer));
    if (goal == goals.end()) {
      left.push_back(give);
      continue;
    }
    const Bytes present = content_size(*layer);
    if (present.value() >= goal->second) continue;
    give.amount = {Amount::Kind::size, Bytes(goal->second) - present, 0};
    left.push_back(give);
  }
  const bool any = request.gives.empty() || !left.empty();
  request.gives = left;
  return any;
}

std::string LiveChange::goals() const {
  std::string text;
  for (const Give& give : request_.gives) {
    const Layer* layer = find_target(system_->guest(), give.target);
    // All that there is stays all that there is; but of a new disk, not what other disks have.
    const bool all = give.amount.kind == Amount::Kind::rest && request_.add_disks.empty();
    if (layer == nullptr || all) continue;
    plan_.for_each<step::GrowContent>([&](const Step& step, const step::GrowContent& work) {
      if (step.layer == layer->id)
        text += fmt::format("{} {}\n", work.size.value(), identity_of(system_->guest(), *layer));
    });
  }
  return text;
}

// First all physical volumes, then each group, by name: as the system's own tools do.
void LiveChange::lock() {
  locks_.push_back(kernel_.lock_group(""));
  std::vector<std::string> names;
  const auto system = look(/*with_added=*/false);
  for (const VolumeGroup& group : system->guest().groups()) names.push_back(group.open.group.name);
  std::sort(names.begin(), names.end());
  for (const std::string& name : names) locks_.push_back(kernel_.lock_group(name));
}

// A tool that waits has measured the devices already: it is to find metadata that knows them as
// they were. What it may do to a group we learn then.
bool LiveChange::others_go_first() {
  locks_.clear();
  lock();
  const auto now = look_again();
  for (const VolumeGroup& group : system_->guest().groups()) {
    const auto& groups = now->guest().groups();
    const bool same = std::any_of(groups.begin(), groups.end(), [&](const VolumeGroup& each) {
      return each.open.group.id == group.open.group.id &&
             each.open.group.sequence == group.open.group.sequence;
    });
    if (!same) return false;
  }
  return true;
}

// A run that was cut off had taken it out of use.
void LiveChange::put_swap_back() {
  const auto note = notes_.get(swap_note);
  if (!note) return;
  std::istringstream words(*note);
  std::string path;
  int priority = 0;
  words >> path >> priority;
  const auto device = kernel_.device_at(path);
  bool in_use = false;
  for (const SwapInUse& swap : kernel_.swaps())
    in_use = in_use || kernel_.device_at(swap.path) == device;
  if (device && !in_use && is_swap(*kernel_.open_to_read(path))) {
    kernel_.swap_on(path, priority);
    repaired_.push_back(fmt::format(
        "{} had been taken out of use by a run that was cut off; it is in use again", path));
  }
  notes_.remove(swap_note);
}

// From the look to the end nobody else is to put anything on them. What an earlier run has got into
// the group is held by that.
void LiveChange::claim_new_disks() {
  for (const auto& [path, size] : request_.add_disks)
    for (const KernelDisk& known : kernel_.disks()) {
      if (kernel_.device_at(path) != known.device) continue;
      try {
        claims_.push_back(kernel_.claim(known));
      } catch (const Error&) {
        if (!begun(path)) throw;
      }
    }
}

// The note of an earlier run, where it is of this very disk.
std::optional<NewDisk> LiveChange::begun(const std::string& disk) const {
  const auto note = notes_.get(disk_note);
  if (!note) return std::nullopt;
  for (const KernelDisk& known : kernel_.disks())
    if (kernel_.device_at(disk) == known.device)
      for (const NewDisk& noted : parse_new_disks(*note))
        if (noted.is(known)) return noted;
  return std::nullopt;
}

// What the plan will write on each disk that is taken, an earlier run's where there was one.
std::vector<NewDisk> LiveChange::new_disks(const RunningSystem& system, const Plan& plan) const {
  std::vector<NewDisk> all;
  plan.for_each<step::CreatePartition>([&](const Step& step, const step::CreatePartition& work) {
    const Disk& disk = system.guest().disks()[step.layer.disk];
    if (!disk.added) return;
    const KernelDisk& known = system.disk(step.layer.disk);
    TableKind kind = TableKind::gpt;
    plan.for_each<step::CreateDisk>([&](const Step& made, const step::CreateDisk& table) {
      if (made.layer.disk == step.layer.disk) kind = table.table;
    });
    auto earlier = begun(disk.path);
    all.push_back(earlier ? std::move(*earlier)
                          : make_new_disk(known, kind, disk.sector_size, work.partition));
  });
  return all;
}

std::unique_ptr<RunningSystem> LiveChange::look(bool with_added) const {
  std::vector<RunningSystem::Added> added;
  if (with_added)
    for (const auto& [path, size] : request_.add_disks) added.push_back({path, begun(path)});
  return std::make_unique<RunningSystem>(kernel_, request_.images, added);
}

std::unique_ptr<RunningSystem> LiveChange::look_again() const {
  // Its disks are known by then, the new ones too.
  return std::make_unique<RunningSystem>(kernel_, system_->guest().image_paths());
}

void LiveChange::carry_out(Progress& progress, const std::function<void(const Step&)>& told) {
  const std::vector<NewDisk> fresh = new_disks(*system_, plan_);
  if (!fresh.empty()) notes_.put(disk_note, new_disks_text(fresh));
  if (!notes_.get(goal_note))
    if (const std::string text = goals(); !text.empty()) notes_.put(goal_note, text);
  const LookAgain again = [this] { return look_again(); };
  bool begun = false;
  const auto done = [&](const Step& step) {
    begun = true;
    // From here on the group holds it, which would not get it from us.
    if (step.is<step::CommitGroup>()) claims_.clear();
    told(step);
  };
  try {
    const auto others_first = [this] { return others_go_first(); };
    if (!carry_out_live({kernel_, *system_, plan_, fresh}, notes_, again, others_first, progress,
                        done)) {
      const Prepared rest = prepare();
      // It has no partition to tell of any more.
      carry_out_live(
          {kernel_, *rest.system, rest.plan, new_disks(*rest.system, rest.plan)}, notes_, again,
          [] { return true; }, progress, done);
    }
  } catch (const Error& error) {
    if (begun) throw error.with_outcome(Outcome::sound);
    // Nothing was done that the next run would have to know of.
    if (error.outcome() == Outcome::unchanged || error.outcome() == Outcome::unsaid) {
      notes_.remove(goal_note);
      if (fresh.empty()) notes_.remove(disk_note);
    }
    throw;
  }
  notes_.remove(disk_note);
  notes_.remove(goal_note);
}

}  // namespace jh::live
