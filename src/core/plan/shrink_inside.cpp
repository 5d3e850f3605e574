#include "core/plan/shrink_inside.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"
#include "core/lvm/shrink.h"
#include "core/plan/commands.h"
#include "core/plan/floors.h"

namespace jh {
namespace {

ResizePlan plan_smaller(const Guest& guest, const Layer& layer, Bytes size) {
  try {
    return layer.content.filesystem()->plan_resize(size);
  } catch (const Error& error) {
    throw error.with_context(guest.best_name(layer));
  }
}

}  // namespace

void plan_smaller_content(Plan& plan, WriteCost& cost, const Guest& guest, const Layer& layer,
                          Bytes size) {
  if (size >= layer.content.size.value_or(layer.size)) return;
  if (auto why = no_shrinking(layer)) throw why->with_context(guest.best_name(layer));
  plan.targets.push_back(layer.id);
  const ResizePlan shrinking = plan_smaller(guest, layer, size);
  if (!shrinking.changes()) return;
  const std::string name = fmt::format("{} on {}", layer.content.name, guest.name_of(layer));
  for (const std::string& note : shrinking.notes) plan.notes.push_back(name + ": " + note);
  if (const auto& replay = layer.content.replay()) {
    plan.steps.push_back({layer.id, name, replay->action, step::ReplayJournal{}});
    cost.through_ledger += replay->bytes_to_write;
  }
  plan.steps.push_back({layer.id, name, shrinking.words,
                        step::ShrinkContent{shrinking.to, shrinking.moves_content},
                        shrinking.to_move.value()});
  if (const auto used = layer.content.used; used && shrinking.to > *used)
    plan.notes.push_back(fmt::format("about {} stay free in {}", human(shrinking.to - *used),
                                     guest.best_name(layer)));
  cost.through_ledger += shrinking.bytes_to_write;
  cost.direct += shrinking.to_move.value();
}

namespace {

class GroupShrinker {
 public:
  GroupShrinker(Plan& plan, WriteCost& cost, const Guest& guest, Floors& floors,
                const ShrinkRequest& request, GroupChange change)
      : plan_(plan),
        cost_(cost),
        guest_(guest),
        floors_(floors),
        request_(request),
        change_(std::move(change)),
        group_(*change_.group),
        planned_(group_.open) {}

  void run() {
    if (const auto blockers = group_.open.blockers(); !blockers.empty()) throw blockers.front();
    plan_.add_group(guest_, group_);
    find_volumes();
    for (const auto& [volume, extents] : change_.volumes) shrink_volume(volume, extents);
    // Each is shorter before the next one is emptied: what moves does not come to lie behind an
    // end.
    for (const auto& [pv, size] : change_.devices) {
      move_off(pv, extents_left(pv, size));
      shrink_device(pv, size);
    }
    for (const std::size_t pv : change_.leaving) move_off(pv, 0);
    for (const std::size_t pv : change_.leaving) remove_device(pv);
    commit();
  }

 private:
  const lvm::Group& facts() const { return group_.open.group; }

  std::uint64_t extents_left(std::size_t pv, Bytes size) const {
    return std::min(facts().pvs[pv].extents, lvm::extents_of(group_.open, pv, size.value()));
  }

  // By how much the volumes are larger than what will be left for them.
  std::uint64_t missing() const {
    std::uint64_t there = 0;
    for (std::size_t pv = 0; pv < facts().pvs.size(); ++pv) {
      if (std::find(change_.leaving.begin(), change_.leaving.end(), pv) != change_.leaving.end())
        continue;
      const auto resized = change_.devices.find(pv);
      there += resized == change_.devices.end() ? facts().pvs[pv].extents
                                                : extents_left(pv, resized->second);
    }
    std::uint64_t needed = 0;
    for (std::size_t i = 0; i < facts().volumes.size(); ++i) needed += kept(i);
    return needed > there ? needed - there : 0;
  }

  std::uint64_t kept(std::size_t volume) const {
    const auto found = change_.volumes.find(volume);
    return found == change_.volumes.end() ? facts().volumes[volume].extents : found->second;
  }

  void find_volumes() {
    std::uint64_t lacking = missing();
    if (lacking == 0) return;
    std::map<std::size_t, std::uint64_t> spare;  // volume → extents it could still lose
    std::uint64_t all = 0;
    for (std::size_t i = 0; i < group_.volumes.size(); ++i) {
      if (change_.volumes.contains(i)) continue;
      const std::uint64_t floor = floors_.of_volume(group_.volumes[i]);
      if (floor >= facts().volumes[i].extents) continue;
      spare[i] = facts().volumes[i].extents - floor;
      all += spare[i];
    }
    if (request_.to_floor) {
      for (const auto& [volume, extents] : spare) {
        if (lacking == 0) break;
        lose(volume, std::min(extents, lacking));
        lacking = missing();
      }
    } else {
      std::vector<std::size_t> able;
      for (const auto& [volume, extents] : spare)
        if (extents >= lacking) able.push_back(volume);
      // Swap is taken from only when it is named, or all there is.
      std::vector<std::size_t> filesystems;
      std::copy_if(able.begin(), able.end(), std::back_inserter(filesystems),
                   [&](std::size_t i) { return is_opened(group_.volumes[i].content); });
      if (filesystems.size() == 1) able = filesystems;
      if (able.size() != 1) refuse_to_guess(lacking, spare, all);
      lose(able.front(), lacking);
    }
    if (const std::uint64_t still = missing(); still != 0) refuse_to_guess(still, spare, all);
  }

  void lose(std::size_t volume, std::uint64_t extents) {
    const lvm::Volume& lv = facts().volumes[volume];
    // Whole stripes: rather more than less is taken, and never more than the floor allows.
    const std::uint64_t floor = floors_.of_volume(group_.volumes[volume]);
    std::uint64_t wanted = lv.extents - extents;
    std::uint64_t whole = lvm::whole_size(lv, wanted);
    while (whole > wanted && wanted > floor) {
      --wanted;
      whole = lvm::whole_size(lv, wanted);
      if (whole <= lv.extents - extents) break;
    }
    change_.volumes[volume] = whole;
  }

  [[noreturn]] void refuse_to_guess(std::uint64_t lacking,
                                    const std::map<std::size_t, std::uint64_t>& spare,
                                    std::uint64_t all) {
    const Bytes needed = group_.bytes(lacking);
    Advice commands;
    for (const auto& [volume, extents] : spare) {
      const Layer& layer = group_.volumes[volume];
      const std::string name = guest_.best_name(layer);
      commands +=
          "\n  " +
          command_with(request_, name + "=" + paste_size(group_.bytes(std::min(extents, lacking))))
              .because(
                  fmt::format("{}, can lose {}", layer.content.name, human(group_.bytes(extents))));
    }
    const std::string what =
        fmt::format("the volumes of group {} must lose {} for this", facts().name, human(needed));
    if (all < lacking)
      refuse(fmt::format("{}, and can lose only {}", what, human(group_.bytes(all))), {},
             "ask for less (its floors: " + suggest("survey", guest_.image_paths()) +
                 "), or remove something inside the guest first");
    refuse(what + ": say which", {}, "name one of them, or several in one command:" + commands);
  }

  void shrink_volume(std::size_t number, std::uint64_t extents) {
    const Layer& layer = group_.volumes[number];
    const lvm::Volume& volume = facts().volumes[number];
    const std::string name = guest_.name_of(layer);
    if (!volume.plain() || !volume.used_by.empty() || !volume.visible)
      unsupported(fmt::format("{} is a {} volume, which is left alone", name, volume.kind), "LVM",
                  "make it smaller from inside the guest");
    plan_smaller_content(plan_, cost_, guest_, layer, group_.bytes(extents));
    if (extents == volume.extents) return;
    plan_.steps.push_back({layer.id, name,
                           fmt::format("give {} extents of {} back to the group",
                                       volume.extents - extents, human(Bytes(facts().extent_size))),
                           step::ShrinkVolume{extents}});
    lvm::reduce_volume(planned_.group, volume.name, extents);
    changed_ = true;
  }

  void move_off(std::size_t pv, std::uint64_t first) {
    const auto moves = lvm::plan_moves(planned_.group, pv, first, change_.leaving);
    if (moves.empty()) return;
    std::uint64_t extents = 0;
    for (const lvm::ExtentMove& move : moves) extents += move.count;
    const Layer& layer = *group_.devices[pv];
    plan_.steps.push_back({layer.id, "PV on " + guest_.name_of(layer),
                           fmt::format("move {} extents ({}) out of the way", grouped(extents),
                                       human(group_.bytes(extents))),
                           step::MoveExtents{first}, extents * facts().extent_size});
    lvm::plan_moved(planned_.group, moves);
    cost_.direct += extents * facts().extent_size;
    changed_ = true;
  }

  void shrink_device(std::size_t pv, Bytes size) {
    const Layer& layer = *group_.devices[pv];
    const std::uint64_t extents = extents_left(pv, size);
    if (extents == 0)
      refuse("no extent would be left on the physical volume", guest_.name_of(layer),
             "leave it more, or take it out of the group (--remove-disk)");
    plan_.steps.push_back({layer.id, "PV on " + guest_.name_of(layer),
                           fmt::format("write it for {} extents", grouped(extents)),
                           step::ShrinkDevice{size, extents}});
    lvm::set_device_size(planned_, pv, size.value());
    changed_ = true;
  }

  void remove_device(std::size_t pv) {
    const Layer& layer = *group_.devices[pv];
    plan_.steps.push_back({layer.id, "PV on " + guest_.name_of(layer), "take it out of the group",
                           step::RemoveDevice{}});
    plan_.remains.push_back(
        fmt::format("detach {} from the guest in your hypervisor: group {} needs it no more",
                    guest_.disks()[layer.disk].path, facts().name));
    changed_ = true;
  }

  void commit() {
    if (!changed_) return;
    std::uint64_t copies = 0;
    for (const auto& member : group_.open.members)
      for (const lvm::MetadataArea& area : member->device.areas) copies += area.ignored ? 0 : 1;
    plan_.steps.push_back({LayerId(group_.devices.front()->disk), "group " + facts().name,
                           fmt::format("write its metadata anew (number {})", facts().sequence + 1),
                           step::CommitGroup{facts().name}});
    cost_.through_ledger += (lvm::write_text(planned_.group.text()).size() + 8192) * copies;
  }

  Plan& plan_;
  WriteCost& cost_;
  const Guest& guest_;
  Floors& floors_;
  const ShrinkRequest& request_;
  GroupChange change_;
  const VolumeGroup& group_;
  lvm::OpenGroup planned_;
  bool changed_ = false;
};

}  // namespace

void plan_smaller_group(Plan& plan, WriteCost& cost, const Guest& guest, Floors& floors,
                        const ShrinkRequest& request, GroupChange change) {
  GroupShrinker(plan, cost, guest, floors, request, std::move(change)).run();
}

}  // namespace jh
